// The product of two matrices of integers, 320 by 320: multiplications, strided loads.
        .target arm64
        .global _start
side    = 320
        .bss
        .align  3
left:   .skip   side * side * 4
right:  .skip   side * side * 4
        .text
_start: adrp    x8, left
        add     x8, x8, :lo12:left
        adrp    x9, right
        add     x9, x9, :lo12:right
        mov     w0, #0
        mov     w2, #7
        ldr     w4, =side * side
.fill:  mul     w1, w0, w2
        str     w1, [x8, w0, uxtw #2]
        add     w1, w0, w0, lsl #1
        add     w1, w1, #1
        str     w1, [x9, w0, uxtw #2]
        add     w0, w0, #1
        cmp     w0, w4
        b.lo    .fill
        mov     w11, #0
        mov     w12, #0                 // row
        mov     w15, #side * 4
.row:   mov     w13, #0                 // column
.column:
        umaddl  x6, w12, w15, x8
        add     x7, x9, w13, uxtw #2
        mov     w0, #0
        mov     w5, #side
.term:  ldr     w2, [x6], #4
        ldr     w3, [x7]
        madd    w0, w2, w3, w0
        add     x7, x7, #side * 4
        subs    w5, w5, #1
        b.ne    .term
        eor     w11, w11, w0
        add     w13, w13, #1
        cmp     w13, #side
        b.lo    .column
        add     w12, w12, #1
        cmp     w12, #side
        b.lo    .row
        and     w0, w11, #127
        mov     x8, #93
        svc     #0
