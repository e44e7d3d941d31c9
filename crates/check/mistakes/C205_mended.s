; C205, mended
        .target x86-64
        .global _start
        .text
_start: mov     eax, 40
        mov     ecx, 5
        xor     edx, edx
        div     ecx
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
