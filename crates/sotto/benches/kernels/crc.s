; A cyclic redundancy check over 64 KiB of log, three hundred times: a chain of table look-ups.
        .target x86-64
        .global _start
BYTES   equ 65536
        .bss
table:  .skip 256 * 4
log:    .skip BYTES
        .text
_start: lea     r8, [table]
        xor     ecx, ecx
.entry: mov     eax, ecx
        mov     edx, 8
.bit:   mov     ebx, eax
        and     ebx, 1
        neg     ebx
        and     ebx, 0xedb88320
        shr     eax, 1
        xor     eax, ebx
        dec     edx
        jnz     .bit
        mov     [r8 + rcx*4], eax
        inc     ecx
        cmp     ecx, 256
        jb      .entry
        lea     r9, [log]
        xor     ecx, ecx
.fill:  imul    eax, ecx, 31
        shr     eax, 3
        mov     [r9 + rcx], al
        inc     ecx
        cmp     ecx, BYTES
        jb      .fill
        mov     eax, -1
        mov     r12d, 300
.round: mov     rsi, r9
        mov     ecx, BYTES
.byte:  movzx   edx, byte [rsi]
        xor     dl, al
        movzx   edx, dl
        shr     eax, 8
        xor     eax, [r8 + rdx*4]
        inc     rsi
        dec     ecx
        jnz     .byte
        dec     r12d
        jnz     .round
        not     eax
        mov     edi, eax
        and     edi, 127
        mov     eax, 60
        syscall
