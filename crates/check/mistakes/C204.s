; C204: flags are tested that an instruction left undefined
        .target x86-64
        .global _start
        .text
_start: mov     eax, 3
        mov     ecx, 4
        mul     ecx
        jz      .out                    ; mul defines CF and OF alone
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
