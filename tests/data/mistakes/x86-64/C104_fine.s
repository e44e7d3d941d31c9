; like C104, and right
        .target x86-64
        .global _start
        .text
fog:    mov     eax, 1                  ; the file's own routine needs no aligned stack
        ret
_start: push    rax
        call    fog
        pop     rax
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
