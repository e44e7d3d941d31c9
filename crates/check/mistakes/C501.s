; C501: control runs past the last instruction
        .target x86-64
        .global _start
        .text
_start: mov     eax, 60
        xor     edi, edi
