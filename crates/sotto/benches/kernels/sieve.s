; The primes below a million, twenty times: stores in strides, short loops.
        .target x86-64
        .global _start
LIMIT   equ 1000000
        .bss
struck: .skip LIMIT
        .text
_start: mov     r12d, 20
.round: lea     rdi, [struck]
        mov     ecx, LIMIT / 8
        xor     eax, eax
        rep stosq
        lea     rdi, [struck]
        xor     ebx, ebx
        mov     esi, 2
.number:
        cmp     byte [rdi + rsi], 0
        jne     .next
        inc     ebx
        lea     edx, [rsi + rsi]
.strike:
        cmp     edx, LIMIT
        jae     .next
        mov     byte [rdi + rdx], 1
        add     edx, esi
        jmp     .strike
.next:  inc     esi
        cmp     esi, LIMIT
        jb      .number
        dec     r12d
        jnz     .round
        mov     edi, ebx
        and     edi, 127
        mov     eax, 60
        syscall
