; C207: a value is overwritten before it is used
        .target x86-32
        .global _start
        .text
_start: mov     ecx, 240                ; bearing
        mov     ecx, 30
        add     ecx, 10
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
