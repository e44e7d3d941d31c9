; like C101, and right
        .target x86-64
        .global _start
        .global lamp
        .text
lamp:   mov     r12, rbx                ; a register is moved aside and back
        mov     rbx, 5
        mov     rbx, r12
        mov     r12d, 0
        ret
_start: xor     r12d, r12d
        mov     ebx, 3
.again: call    lamp
        dec     ebx
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
