; C506, mended
        .target x86-64
        .global _start
        .text
; adds the numbers up to edi
;: takes edi = last: u32
;: returns eax = sum
sum:    xor     eax, eax
        test    edi, edi
        jz      .out
        push    rdi
        dec     edi
        call    sum
        pop     rdi
        add     eax, edi
.out:   ret
_start: mov     edi, 9
        call    sum
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
