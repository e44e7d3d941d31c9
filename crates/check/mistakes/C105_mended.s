; C105, mended
        .target x86-64
        .global _start
        .global fog
        .text
fog:    mov     ecx, 9
        mov     eax, ecx
        ret
_start: mov     ebx, 3                  ; the count
.again: call    fog
        dec     ebx
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
