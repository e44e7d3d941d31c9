; C206: a shift by the width or more
        .target x86-64
        .global _start
        .text
_start: mov     eax, 1
        mov     ecx, 32
        shl     eax, cl                 ; by 0
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
