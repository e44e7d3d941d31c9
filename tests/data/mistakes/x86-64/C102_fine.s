; like C102, and right
        .target x86-64
        .global _start
        .text
lamp:   lea     rax, [.on]              ; a return that is meant as a jump
        push    rax
        ret
.on:    ret
_start: call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
