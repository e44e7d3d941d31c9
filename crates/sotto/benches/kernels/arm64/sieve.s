// The primes below a million, twenty times: stores in strides, short loops.
        .target arm64
        .global _start
limit   = 1000000
        .bss
        .align  4
struck: .skip   limit
        .text
_start: mov     w12, #20
        ldr     w4, =limit
.round: adrp    x7, struck
        add     x7, x7, :lo12:struck
        mov     x6, x7
        ldr     w5, =limit / 16
.clear: stp     xzr, xzr, [x6], #16
        subs    w5, w5, #1
        b.ne    .clear
        mov     w11, #0
        mov     w6, #2
.number:
        ldrb    w0, [x7, w6, uxtw]
        cbnz    w0, .next
        add     w11, w11, #1
        add     w2, w6, w6
        mov     w1, #1
.strike:
        cmp     w2, w4
        b.hs    .next
        strb    w1, [x7, w2, uxtw]
        add     w2, w2, w6
        b       .strike
.next:  add     w6, w6, #1
        cmp     w6, w4
        b.lo    .number
        subs    w12, w12, #1
        b.ne    .round
        and     w0, w11, #127
        mov     x8, #93
        svc     #0
