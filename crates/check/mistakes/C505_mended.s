; C505, mended
        .target x86-64
        .global _start
        .text
_start: mov     ecx, 3
.again: mov     edx, 1
        add     ecx, edx
        jz      .again
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
