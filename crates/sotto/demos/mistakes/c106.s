; C106: a value is expected to survive a system call that destroys its register
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start: mov     rcx, 3                  ; the count
        mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        and     rcx, 1
        jnz     _start
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
