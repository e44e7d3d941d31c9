; C302: a system call whose arguments do not go together
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start: mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length + 1
        syscall
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
