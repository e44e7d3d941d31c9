; C103, mended
        .target x86-64
        .global _start
        .text
lamp:   mov     rcx, 3
.fill:  mov     qword [rsp + rcx*8], 7
        dec     rcx
        jnz     .fill
        ret
_start: sub     rsp, 32
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
