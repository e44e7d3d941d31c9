; not C208: the second result of a multiplication overwrites a value
        .target x86-64
        .global _start
        .text
_start: xor     edx, edx
        mov     rax, -1
        mov     ecx, 60
        mul     rcx                     ; rdx:rax, both wanted
        lea     rdi, [rax + rdx]
        mov     eax, 60                 ; exit
        syscall
