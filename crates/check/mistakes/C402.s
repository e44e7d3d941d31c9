; C402: a system call writes past a buffer
        .target x86-64
        .global _start
        .bss
line:   .skip   4
calls:  .skip   60
        .text
_start: xor     eax, eax                ; read
        xor     edi, edi
        lea     rsi, [line]
        mov     edx, 64
        syscall
        mov     ecx, [calls]
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
