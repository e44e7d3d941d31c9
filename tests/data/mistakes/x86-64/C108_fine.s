; like C108, and right
        .target x86-64
        .global _start
        .text
;: takes    edi = depth
;: returns  eax = deep
lamp:   xor     eax, eax
        cmp     edi, 3
        setae   al
        ret
_start: mov     edi, 2
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
