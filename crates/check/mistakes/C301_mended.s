; C301, mended
        .target x86-64
        .global _start
        .text
_start: mov     eax, 39                 ; getpid
        syscall
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
