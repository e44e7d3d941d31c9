; C104, mended
        .target x86-64
        .global _start
        .global fog
        .type   fog, @function
        .text
fog:    mov     eax, 1
        ret
_start: push    rax
        sub     rsp, 8
        call    fog
        add     rsp, 8
        pop     rax
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
