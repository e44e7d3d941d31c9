; C204, mended
        .target x86-64
        .global _start
        .text
_start: mov     eax, 3
        mov     ecx, 4
        mul     ecx
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
