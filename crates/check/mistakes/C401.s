; C401: an access reaches across two variables
        .target x86-64
        .global _start
        .data
tide:   .byte   7
calls:  .byte   1
        .text
_start: mov     eax, dword [tide]
        inc     byte [calls]
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
