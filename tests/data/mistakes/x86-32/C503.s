; C503: execution falls through into data
        .target x86-32
        .global _start
        .text
_start: mov     ecx, [lamps]
        cmp     ecx, 3
        jne     .dark
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
.dark:  mov     edi, 1
lamps   dd      3
