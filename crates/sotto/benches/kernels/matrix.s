; The product of two matrices of integers, 320 by 320: multiplications, strided loads.
        .target x86-64
        .global _start
SIDE    equ 320
        .bss
left:   .skip SIDE * SIDE * 4
right:  .skip SIDE * SIDE * 4
        .text
_start: xor     ecx, ecx
        lea     r8, [left]
        lea     r9, [right]
.fill:  imul    eax, ecx, 7
        mov     [r8 + rcx*4], eax
        lea     eax, [rcx + rcx*2 + 1]
        mov     [r9 + rcx*4], eax
        inc     ecx
        cmp     ecx, SIDE * SIDE
        jb      .fill
        xor     ebx, ebx
        xor     r12d, r12d              ; row
.row:   xor     r13d, r13d              ; column
.column:
        imul    eax, r12d, SIDE * 4
        lea     rsi, [r8 + rax]
        lea     rdi, [r9 + r13*4]
        xor     eax, eax
        mov     ecx, SIDE
.term:  mov     edx, [rsi]
        imul    edx, [rdi]
        add     eax, edx
        add     rsi, 4
        add     rdi, SIDE * 4
        dec     ecx
        jnz     .term
        xor     ebx, eax
        inc     r13d
        cmp     r13d, SIDE
        jb      .column
        inc     r12d
        cmp     r12d, SIDE
        jb      .row
        mov     edi, ebx
        and     edi, 127
        mov     eax, 60
        syscall
