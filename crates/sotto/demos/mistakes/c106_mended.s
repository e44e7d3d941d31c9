; C106, mended
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start: mov     ebx, 3                  ; the count
.again:
        mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        dec     ebx
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
