; not C111: a routine with a variable number of arguments is called without their vector count
        .target x86-64
        .global _start, printf
        .section .rodata
line:   .asciz  "%d"
        .text
;: takes rdi = line: text
;: returns eax = count
printf: movzx   eax, al
        ret
_start: lea     rdi, [line]
        mov     al, 1                   ; one vector register
        call    printf
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
