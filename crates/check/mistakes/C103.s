; C103: the return address was overwritten
        .target x86-64
        .global _start
        .text
lamp:   mov     rcx, 3
.fill:  mov     qword [rsp + rcx*8 - 16], 7     ; one too many
        dec     rcx
        jnz     .fill
        ret
_start: sub     rsp, 32
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
