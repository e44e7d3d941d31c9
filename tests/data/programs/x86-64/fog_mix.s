; Mixes the fog signal's rhythm through every kind of instruction, and writes eight digits of it.
; output: e64cab49\n
; status: 0
        .target x86-64
        .global _start

        .data
rhythm: dd      0x1234_5678, 0x9abc_def0, 0x0f1e_2d3c, 0x5a69_7887
beats   equ     ($ - rhythm) / 4
text:   db      "00000000\n"

        .text
_start:
        mov     ecx, beats
        xor     eax, eax
        lea     rbx, [rhythm]
.beat:
        mov     edx, [rbx + rcx*4 - 4]
        rol     eax, 5
        xor     eax, edx
        imul    eax, eax, 0x1003
        mov     r8d, edx
        shr     r8d, 3
        sar     edx, 7
        sbb     eax, r8d
        adc     eax, edx
        cmp     eax, edx
        cmovg   r8d, eax
        setbe   r9b
        movsx   r10d, r9b
        neg     r10d
        sub     eax, r10d
        not     r8d
        or      r8d, 1
        xchg    eax, r8d
        rcr     eax, 3
        rcl     r8d, 9
        add     eax, r8d
        loop    .again
        jmp     .write
.again: jmp     .beat
.write:
        lea     rdi, [text + 7]
        mov     ecx, 8
.digit:
        mov     edx, eax
        and     edx, 15
        cmp     dl, 10
        jb      .small
        add     dl, 'a' - '0' - 10
.small: add     dl, '0'
        mov     [rdi], dl
        dec     rdi
        shr     eax, 4
        dec     ecx
        jnz     .digit
        mov     eax, 1
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, 9
        syscall
        mov     eax, 60
        xor     edi, edi
        syscall
