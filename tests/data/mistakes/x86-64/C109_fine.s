; like C109, and right
        .target x86-64
        .global _start
        .text
_start: std                             ; no routine: nobody is surprised
        cld
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
