; like C110, and right
        .target x86-64
        .global _start
        .text
;: takes    edi = depth
;: returns  eax = deeper
;: keeps    flags
lamp:   pushfq                          ; saved and restored
        mov     eax, edi
        inc     eax
        popfq
        ret
_start: xor     edi, edi
        call    lamp
        jz      .out
.out:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
