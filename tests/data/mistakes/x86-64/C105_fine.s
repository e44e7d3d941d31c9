; like C105, and right
        .target x86-64
        .global _start
        .global fog
        .text
fog:    mov     eax, 9                  ; rcx is left alone
        ret
_start: mov     ecx, 3
.again: call    fog
        dec     ecx
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
