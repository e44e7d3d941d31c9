; C209, mended
        .target x86-64
        .global _start
        .text
_start: mov     ecx, 20                 ; depth below the datum
        neg     ecx
        xor     edi, edi
        cmp     ecx, -5000
        jl      .out
        mov     edi, 1
.out:   mov     eax, 60                 ; exit
        syscall
