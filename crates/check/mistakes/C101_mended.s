; C101, mended
        .target x86-64
        .global _start
        .global lamp
        .text
lamp:   push    rbx
        mov     rbx, 5
        pop     rbx
        ret
_start: mov     ebx, 3
.again: call    lamp
        dec     ebx
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
