; C302, mended
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start:
        mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
