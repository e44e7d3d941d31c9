; like C102, and right
        .target x86-32
        .global _start
        .text
lamp:   ret     4                       ; takes its argument off
_start: push    5
        call    lamp
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
