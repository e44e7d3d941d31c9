; C102, mended
        .target x86-64
        .global _start
        .text
lamp:   push    rdi
        pop     rdi
        ret
_start: mov     edi, 5
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
