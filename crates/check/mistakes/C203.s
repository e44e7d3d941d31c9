; C203: memory below the stack pointer is used after a call
        .target x86-64
        .global _start
        .text
fog:    push    rbp
        mov     rbp, rsp
        pop     rbp
        ret
_start: mov     dword [rsp - 8], 3      ; no room was made
        call    fog
        mov     eax, [rsp - 8]
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
