; C105: a value is expected to survive a call that changes its register
        .target x86-64
        .global _start
        .global fog
        .text
fog:    mov     ecx, 9
        mov     eax, ecx
        ret
_start: mov     ecx, 3                  ; the count
.again: call    fog
        sub     ecx, 9
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
