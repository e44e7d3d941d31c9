// The height of a swell by a polynomial, over eight million moments: arithmetic on doubles.
        .target arm64
        .global _start
        .data
        .align  3
step:   .double 0.000001
third:  .double 0.16666666666666666
fifth:  .double 0.008333333333333333
damp:   .double 0.999999
        .text
_start: ldr     w0, =8000000
        movi    d0, #0                  // time
        movi    d4, #0                  // sum
        adrp    x1, step
        add     x1, x1, :lo12:step
        ldp     d5, d6, [x1]
        ldp     d7, d16, [x1, #16]
.moment:
        fadd    d0, d0, d5
        fmul    d1, d0, d0              // t squared
        fmul    d2, d7, d1
        fsub    d2, d2, d6
        fmul    d2, d2, d1
        fmul    d2, d2, d0
        fadd    d2, d2, d0
        fmul    d4, d4, d16
        fadd    d4, d4, d2
        subs    w0, w0, #1
        b.ne    .moment
        fcvtzs  w0, d4
        and     w0, w0, #127
        mov     x8, #93
        svc     #0
