; like C106, and right
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start: mov     ebx, 3
.again: push    rcx                     ; saved and restored around the call
        mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        pop     rcx
        dec     ebx
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
