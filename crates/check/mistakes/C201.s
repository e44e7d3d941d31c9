; C201: a register is used that was never set
        .target x86-64
        .global _start
        .text
_start: add     ebx, 1                  ; whatever ebx was
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
