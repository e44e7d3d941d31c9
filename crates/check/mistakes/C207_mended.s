; C207, mended
        .target x86-64
        .global _start
        .text
_start: mov     edx, 240                ; bearing
        mov     ecx, 30                 ; height
        lea     edi, [rcx + rdx]
        mov     eax, 60                 ; exit
        syscall
