; C104: the stack is misaligned at a call
        .target x86-64
        .global _start
        .global fog
        .type   fog, @function
        .text
fog:    mov     eax, 1
        ret
_start: push    rax
        call    fog
        pop     rax
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
