; C207: a value is overwritten before it is used
        .target x86-64
        .global _start
        .text
_start: mov     ecx, 240                ; bearing
        mov     ecx, 30                 ; height
        lea     edi, [rcx + 10]
        mov     eax, 60                 ; exit
        syscall
