; C202: memory is used that was never written
        .target x86-64
        .global _start
        .text
_start: sub     rsp, 16
        mov     eax, [rsp]
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
