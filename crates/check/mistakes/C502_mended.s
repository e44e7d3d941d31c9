; C502, mended
        .target x86-64
        .global _start
        .data
tide:   .long   7
        .text
_start: lea     rbx, [tide]
        mov     eax, [rbx]
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
