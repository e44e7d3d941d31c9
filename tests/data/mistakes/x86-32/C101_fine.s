; like C101, and right
        .target x86-32
        .global _start
        .global lamp
        .text
lamp:   pushad
        mov     esi, 5
        popad
        ret
_start: mov     esi, 3
        call    lamp
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
