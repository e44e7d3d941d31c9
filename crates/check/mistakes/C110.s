; C110: flags that a contract keeps are changed
        .target x86-64
        .global _start
        .text
;: takes    edi = depth
;: returns  eax = deeper
;: keeps    flags
lamp:   mov     eax, edi
        inc     eax
        ret
_start: xor     edi, edi
        call    lamp
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
