; C106: a value is expected to survive a system call that destroys its register
        .target x86-64
        .global _start
        .rodata
text:   .ascii  "lit\n"
length  =       . - text
        .text
_start: xor     ecx, ecx                ; counts up
.again:
        mov     eax, 1                  ; write
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        inc     rcx
        cmp     rcx, 3
        jb      .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
