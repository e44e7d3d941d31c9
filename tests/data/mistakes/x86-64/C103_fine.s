; like C103, and right
        .target x86-64
        .global _start
        .text
lamp:   mov     rax, [rsp]              ; the address is looked at and put back
        mov     [rsp], rax
        ret
_start: call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
