; like C303, and right
        .target x86-64
        .global _start
        .text
_start: mov     eax, 39                 ; getpid does not fail
        syscall
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
