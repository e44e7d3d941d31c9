; not C209: a signed branch after an unsigned comparison, or the reverse
        .target x86-64
        .global _start
        .text
_start: mov     eax, 39                 ; getpid
        syscall
        cmp     rax, -4095              ; an error?
        jae     .out
        cmp     al, -100
        jl      .out
        cmp     eax, 0
        ja      .out
.out:   mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
