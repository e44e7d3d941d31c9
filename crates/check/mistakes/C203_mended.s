; C203, mended
        .target x86-64
        .global _start
        .text
fog:    push    rbp
        mov     rbp, rsp
        pop     rbp
        ret
_start: sub     rsp, 16
        mov     dword [rsp], 3
        call    fog
        mov     eax, [rsp]
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
