; C206, mended
        .target x86-64
        .global _start
        .text
_start: mov     eax, 1
        mov     ecx, 31
        shl     eax, cl
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
