; C110, mended
        .target x86-64
        .global _start
        .text
;: takes    edi = depth
;: returns  eax = deeper
;: keeps    flags
lamp:   lea     eax, [rdi + 1]
        ret
_start: xor     edi, edi
        call    lamp
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
