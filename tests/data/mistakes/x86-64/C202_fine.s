; like C202, and right
        .target x86-64
        .global _start
        .bss
room:   .skip   4                       ; starts as zeros
        .text
_start: mov     eax, [room]
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
