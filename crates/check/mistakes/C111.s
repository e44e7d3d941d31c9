; C111: a routine with a variable number of arguments is called without their vector count
        .target x86-64
        .global _start, printf
        .section .rodata
line:   .asciz  "%d readings"
        .text
;: takes rdi = line: text
;: returns eax = count
;: changes rcx
printf: movzx   ecx, al                 ; how many vector registers hold arguments
        mov     eax, ecx
        ret
_start: lea     rdi, [line]
        mov     esi, 3
        call    printf
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
