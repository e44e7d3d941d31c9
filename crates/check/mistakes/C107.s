; C107: a routine changes a register that its contract does not list
        .target x86-64
        .global _start
        .text
;: twice a depth
;: takes    edi = depth
;: returns  eax = twice
lamp:   mov     edx, edi
        lea     eax, [rdx + rdx]
        ret
_start: mov     edi, 4
        xor     edx, edx
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
