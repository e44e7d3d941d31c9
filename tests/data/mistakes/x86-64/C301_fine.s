; like C301, and right
        .target x86-64
        .global _start
        .text
_start: mov     eax, 102                ; getuid
        syscall
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
