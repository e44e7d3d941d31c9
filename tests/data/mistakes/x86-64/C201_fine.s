; like C201, and right
        .target x86-64
        .global _start
        .text
_start: push    rbx                     ; saved, not used
        mov     ebx, 1
        dec     ebx
        jz      .out
.out:   pop     rbx
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
