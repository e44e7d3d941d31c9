; C101: a preserved register is not restored
        .target x86-32
        .global _start
        .global lamp
        .text
lamp:   mov     esi, 5
        ret
_start: mov     esi, 3
        call    lamp
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
