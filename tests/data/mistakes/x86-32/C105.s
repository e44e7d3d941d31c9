; C105: a value is expected to survive a call that changes its register
        .target x86-32
        .global _start
        .global fog
        .text
fog:    mov     ecx, 9
        ret
_start: mov     ecx, 3
.again: call    fog
        sub     ecx, 9
        jnz     .again
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
