; C101, mended
        .target x86-32
        .global _start
        .global lamp
        .text
lamp:   push    esi
        mov     esi, 5
        pop     esi
        ret
_start: mov     esi, 3
        call    lamp
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
