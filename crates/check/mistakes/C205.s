; C205: a division without its high half prepared
        .target x86-64
        .global _start
        .text
_start: mov     eax, 40
        mov     ecx, 5
        div     ecx                     ; divides edx:eax
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
