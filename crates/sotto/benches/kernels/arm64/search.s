// Every place of a word in 64 KiB of text, byte by byte, two hundred times: comparisons and branches.
        .target arm64
        .global _start
bytes   = 65536
        .data
needle: .ascii  "fog bell"
letters = . - needle
        .bss
text:   .skip   bytes + 16
        .text
_start: adrp    x8, text
        add     x8, x8, :lo12:text
        adrp    x9, needle
        add     x9, x9, :lo12:needle
        mov     w0, #0
        ldr     w3, =2654435
        mov     w10, #bytes
.fill:  mov     w1, w0                  // letters of the word, out of order now and then
        mul     w2, w0, w3
        lsr     w2, w2, #16
        ands    w2, w2, #31
        cinc    w1, w1, eq
        and     w1, w1, #letters - 1
        ldrb    w1, [x9, w1, uxtw]
        strb    w1, [x8, w0, uxtw]
        add     w0, w0, #1
        cmp     w0, w10
        b.lo    .fill
        mov     w11, #0
        mov     w12, #200
.round: mov     w0, #0
.place: mov     w2, #0
.letter:
        add     w1, w0, w2
        ldrb    w1, [x8, w1, uxtw]
        ldrb    w3, [x9, w2, uxtw]
        cmp     w1, w3
        b.ne    .other
        add     w2, w2, #1
        cmp     w2, #letters
        b.lo    .letter
        add     w11, w11, #1
.other: add     w0, w0, #1
        cmp     w0, w10
        b.lo    .place
        subs    w12, w12, #1
        b.ne    .round
        and     w0, w11, #127
        mov     x8, #93
        svc     #0
