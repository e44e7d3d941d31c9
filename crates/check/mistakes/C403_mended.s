; C403, mended
        .target x86-64
        .global _start
        .data
lamps:  .long   3
        .text
_start: inc     dword [lamps]
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
