; not C404: text without a zero at its end is given to a routine that reads up to one
        .target x86-64
        .global _start
        .section .rodata
tide:   .ascii  "ebb, "
        .asciz  "flood"
flood:  .byte   1
        .text
;: takes rdi = words: text
;: returns eax = first
first:  movzx   eax, byte [rdi]
        ret
_start: lea     rdi, [tide]
        call    first
        lea     rsi, [flood]
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
