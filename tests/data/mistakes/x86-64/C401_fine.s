; like C401, and right
        .target x86-64
        .global _start
        .data
tide:   .long   7, 8                    ; two elements of one table
calls:  .byte   1
        .text
_start: mov     rax, qword [tide]
        inc     byte [calls]
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
