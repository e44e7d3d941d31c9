; like C402, and right
        .target x86-64
        .global _start
        .bss
line:   .skip   64
        .text
_start: xor     eax, eax                ; into the middle of the room
        xor     edi, edi
        lea     rsi, [line + 8]
        mov     edx, 56
        syscall
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
