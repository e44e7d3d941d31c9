; C108: a routine does not set what its contract returns
        .target x86-64
        .global _start
        .text
;: takes    edi = depth
;: returns  eax = deep
lamp:   cmp     edi, 3
        jb      .out                    ; and eax is what it was
        mov     eax, 1
.out:   ret
_start: xor     eax, eax
        mov     edi, 2
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
