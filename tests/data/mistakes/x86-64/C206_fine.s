; like C206, and right
        .target x86-64
        .global _start
        .text
_start: mov     eax, 1
        mov     ecx, 40
        rol     eax, cl                 ; a rotation comes round
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
