; C108, mended
        .target x86-64
        .global _start
        .text
;: takes    edi = depth
;: returns  eax = deep
lamp:   xor     eax, eax
        cmp     edi, 3
        jb      .out
        mov     eax, 1
.out:   ret
_start: xor     eax, eax
        mov     edi, 2
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
