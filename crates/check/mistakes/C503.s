; C503: execution falls through into data
        .target x86-64
        .global _start
        .text
_start: mov     ecx, [lamps]
        cmp     ecx, 3
        jne     .dark
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
.dark:  mov     edi, 1
lamps:  .long   3
