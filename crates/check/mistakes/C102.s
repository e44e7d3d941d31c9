; C102: the stack is unbalanced at a return
        .target x86-64
        .global _start
        .text
lamp:   push    rdi
        ret                             ; takes the argument for the return address
_start: mov     edi, 5
        call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
