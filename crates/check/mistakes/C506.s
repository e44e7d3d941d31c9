; C506: a routine calls itself on every path
        .target x86-64
        .global _start
        .text
; adds the numbers up to edi
;: takes edi = last: u32
;: returns eax = sum
sum:    push    rdi
        dec     edi
        call    sum
        pop     rdi
        add     eax, edi
        ret
_start: mov     edi, 9
        cmp     edi, 9
        je      .out                    ; for want of a base
        call    sum
.out:   mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
