; C201, mended
        .target x86-64
        .global _start
        .text
_start: xor     ebx, ebx
        add     ebx, 1
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
