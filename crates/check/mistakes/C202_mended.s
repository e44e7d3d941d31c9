; C202, mended
        .target x86-64
        .global _start
        .text
_start: sub     rsp, 16
        mov     dword [rsp], 0
        mov     eax, [rsp]
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
