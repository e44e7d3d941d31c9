// The mean of the tide gauge's readings on the ARM board, by a routine with a frame; the status is the mean in centimetres.

        .target arm64
        .global _start

        .data
tide:   .word   212, 187, 154, 131, 126, 140, 171, 203
count   = (. - tide) / 4

        .text
_start:
        adr     x0, tide
        mov     w1, #count
        bl      mean
        mov     x8, #93                 // exit, with the mean as status
        svc     #0

//: mean of a table of tide readings, at most 255
//: takes    x0 = table: address, w1 = count
//: returns  w0 = mean
//: changes  x1, x2, x3
mean:
        stp     x29, x30, [sp, #-32]!   // the frame record: the caller's frame, the return address
        mov     x29, sp
        str     x19, [sp, #16]          // x19 is the caller's
        mov     w19, w1
        mov     w2, #0                  // the sum
next:
        ldr     w3, [x0], #4
        add     w2, w2, w3
        subs    w1, w1, #1
        b.ne    next
        udiv    w0, w2, w19
        cmp     w0, #255                // a status has 8 bits
        mov     w3, #255
        csel    w0, w0, w3, ls
        ldr     x19, [sp, #16]
        ldp     x29, x30, [sp], #32
        ret
