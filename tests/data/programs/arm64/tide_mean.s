// The mean of the tide table, by a routine with a frame.
// status: 11
        .target arm64
        .global _start

        .data
        .balign 4
reading: .word  12, 9, 7, 6, 8, 11, 15, 20
count   = (. - reading) / 4

        .text
_start:
        adr     x0, reading
        mov     w1, #count
        bl      mean
        mov     x8, #94
        svc     #0

//: takes    x0 = table, w1 = count
//: returns  x0 = mean
//: changes  x1, x2, x3
mean:
        stp     x29, x30, [sp, #-32]!
        mov     x29, sp
        str     x19, [sp, #16]
        mov     w19, w1
        mov     w2, wzr
1:      ldr     w3, [x0], #4
        add     w2, w2, w3
        subs    w1, w1, #1
        b.ne    1b
        udiv    w0, w2, w19
        ldr     x19, [sp, #16]
        ldp     x29, x30, [sp], #32
        ret
