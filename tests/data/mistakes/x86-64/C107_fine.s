; like C107, and right
        .target x86-64
        .global _start
        .text
;: twice a depth
;: takes    edi = depth
;: returns  eax = twice
lamp:   push    rdx
        mov     edx, edi
        lea     eax, [rdx + rdx]
        pop     rdx
        ret
_start: mov     edi, 4
        xor     edx, edx
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
