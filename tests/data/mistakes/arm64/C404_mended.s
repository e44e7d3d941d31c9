// C404, mended
        .target arm64
        .global _start
        .section .rodata
tide:   .ascii  "ebb"
        .byte   0
flood:  .asciz  "flood"
        .text
// first character of a text
//: takes x0 = words: text
//: returns w0 = first
first:  ldrb    w0, [x0]
        ret
_start: adr     x0, tide
        bl      first
        mov     w0, 0
        mov     w8, 93                  // exit
        svc     0
