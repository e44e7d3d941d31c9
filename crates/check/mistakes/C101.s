; C101: a preserved register is not restored
        .target x86-64
        .global _start
        .global lamp
        .text
lamp:   mov     rbx, 5                  ; the caller keeps its count here
        ret
_start: mov     ebx, 3
.again: call    lamp
        sub     ebx, 5
        jnz     .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
