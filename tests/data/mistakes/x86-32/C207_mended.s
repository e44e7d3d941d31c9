; C207, mended
        .target x86-32
        .global _start
        .text
_start: mov     edx, 240                ; bearing
        mov     ecx, 30
        add     ecx, edx
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
