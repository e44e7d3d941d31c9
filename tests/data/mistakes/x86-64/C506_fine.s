; not C506: a routine calls itself on every path
        .target x86-64
        .global _start
        .text
;: takes edi = n: u32
;: returns eax = is_even
;: changes rdi
even:   mov     eax, 1
        test    edi, edi
        jz      .out
        dec     edi
        jmp     odd                     ; each calls the other, and both end
.out:   ret
;: takes edi = n: u32
;: returns eax = is_odd
;: changes rdi
odd:    xor     eax, eax
        test    edi, edi
        jz      .out
        dec     edi
        jmp     even
.out:   ret
_start: mov     edi, 5
        call    even
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
