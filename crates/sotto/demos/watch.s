; The watch log, written with the C library: puts and printf do the output.
;
;   sotto assemble --object watch.s
;   cc watch.o -o watch
;   ./watch
;
; The C library starts the program and calls main, so there is no _start and no exit call here.

        .global main
        .extern puts, printf

        .section .rodata
title:  .asciz  "Skerry watch log"
line:   .asciz  "  hour %d: tide %d cm\n"
last:   .asciz  "mean %d cm\n"
tides:  dd      412, 97, 388            ; every six hours
count   equ     ($ - tides) / 4

        .text
main:
        push    rbx                     ; hour count, kept over calls
        push    r12                     ; sum of the tides
        sub     rsp, 8                  ; at a call the stack is a multiple of 16

        lea     rdi, [title]
        call    puts@plt                ; @plt: the routine is in a shared library

        xor     ebx, ebx
        xor     r12d, r12d
.next:
        lea     rdx, [tides]
        mov     edx, [rdx + rbx*4]      ; third argument: the tide
        add     r12d, edx
        imul    esi, ebx, 6             ; second argument: the hour
        lea     rdi, [line]             ; first argument: how to write them
        xor     eax, eax                ; printf: no floating-point arguments
        call    printf@plt
        inc     ebx
        cmp     ebx, count
        jb      .next

        mov     eax, r12d               ; the mean
        cdq
        mov     ecx, count
        idiv    ecx
        mov     esi, eax
        lea     rdi, [last]
        xor     eax, eax
        call    printf@plt

        xor     eax, eax                ; status 0
        add     rsp, 8
        pop     r12
        pop     rbx
        ret
