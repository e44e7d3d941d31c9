; C201, mended
        .target x86-32
        .global _start
        .text
_start: xor     edi, edi
        add     edi, 1
        jz      .out
.out:
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
