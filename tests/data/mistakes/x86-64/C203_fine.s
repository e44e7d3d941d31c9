; like C203, and right
        .target x86-64
        .global _start
        .text
_start: mov     dword [rsp - 8], 3      ; the red zone, and no call
        mov     eax, [rsp - 8]
        test    eax, eax
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
