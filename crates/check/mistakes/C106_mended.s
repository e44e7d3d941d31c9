; C106, mended
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start: xor     ebx, ebx                ; counts up
.again:
        mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        inc     ebx
        cmp     ebx, 3
        jb      .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
