; like C205, and right
        .target x86-64
        .global _start
        .text
_start: mov     eax, -40
        mov     ecx, 5
        cdq
        idiv    ecx
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
