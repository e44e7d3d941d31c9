; C107, mended
        .target x86-64
        .global _start
        .text
;: twice a depth
;: takes    edi = depth
;: returns  eax = twice
;: changes  rdx
lamp:   mov     edx, edi
        lea     eax, [rdx + rdx]
        ret
_start: mov     edi, 4
        xor     edx, edx
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
