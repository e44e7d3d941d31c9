; C404, mended
        .target x86-64
        .global _start
        .section .rodata
tide:   .asciz  "ebb"
flood:  .asciz  "flood"
        .text
; length of a text
;: takes    rdi = words: text
;: returns  rax = length: u64
length: xor     eax, eax
.next:  cmp     byte [rdi + rax], 0
        je      .out
        inc     rax
        jmp     .next
.out:   ret
_start: lea     rdi, [flood]
        call    length
        lea     rdi, [tide]
        call    length
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
