; C208: the second result of a multiplication overwrites a value
        .target x86-32
        .global _start
        .text
_start: mov     edx, 5                  ; lamps
        mov     eax, 12
        mov     ecx, 60
        mul     ecx
        lea     ecx, [edx + 1]
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
