// Reads the watch log and writes it back in capitals.
// input: fog at four\n
// output: FOG AT FOUR\n
// status: 0
        .target arm64
        .global _start

        .bss
        .align  3
line:   .skip   64

        .text
_start:
        mov     x0, #0
        adr     x1, line
        mov     x2, #64
        mov     x8, #63
        svc     #0
        cbz     x0, .end
        mov     x2, x0
        mov     x3, #0
.next:
        ldrb    w4, [x1, x3]
        sub     w5, w4, #'a'
        cmp     w5, #25
        b.hi    .keep
        bic     w4, w4, #0x20
        strb    w4, [x1, x3]
.keep:
        add     x3, x3, #1
        cmp     x3, x2
        b.lo    .next
        mov     x0, #1
        mov     x8, #64
        svc     #0
.end:
        mov     x0, xzr
        mov     x8, #93
        svc     #0
