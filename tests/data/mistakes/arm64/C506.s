// C506: a routine calls itself on every path
        .target arm64
        .global _start
        .text
//: takes w0 = last: u32
//: returns w0 = sum
//: changes x1
sum:    stp     x29, x30, [sp, -16]!
        bl      sum
        ldp     x29, x30, [sp], 16
        ret
_start: mov     w0, 9
        cmp     w0, 9
        b.eq    .out
        bl      sum
.out:
        mov     w0, 0
        mov     w8, 93                  // exit
        svc     0
