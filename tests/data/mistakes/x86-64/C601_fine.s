; like C601, and right
        .target x86-64
        .global _start
        .global tide
        .data
tide:   .long   7                       ; other files may use it
        .text
_start:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
