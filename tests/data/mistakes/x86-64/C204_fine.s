; like C204, and right
        .target x86-64
        .global _start
        .text
_start: mov     eax, 3
        mov     ecx, 4
        mul     ecx
        jc      .out                    ; the product needs the high half
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
