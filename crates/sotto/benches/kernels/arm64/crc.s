// A cyclic redundancy check over 64 KiB of log, three hundred times: a chain of table look-ups.
        .target arm64
        .global _start
bytes   = 65536
        .bss
        .align  3
table:  .skip   256 * 4
log:    .skip   bytes
        .text
_start: adrp    x8, table
        add     x8, x8, :lo12:table
        ldr     w10, =0xedb88320
        mov     w0, #0
.entry: mov     w1, w0
        mov     w2, #8
.bit:   and     w3, w1, #1
        neg     w3, w3
        and     w3, w3, w10
        eor     w1, w3, w1, lsr #1
        subs    w2, w2, #1
        b.ne    .bit
        str     w1, [x8, w0, uxtw #2]
        add     w0, w0, #1
        cmp     w0, #256
        b.lo    .entry
        adrp    x9, log
        add     x9, x9, :lo12:log
        mov     w0, #0
        mov     w3, #31
        mov     w4, #bytes
.fill:  mul     w1, w0, w3
        lsr     w1, w1, #3
        strb    w1, [x9, w0, uxtw]
        add     w0, w0, #1
        cmp     w0, w4
        b.lo    .fill
        mov     w0, #-1
        mov     w12, #300
.round: mov     x6, x9
        mov     w5, w4
.byte:  ldrb    w2, [x6], #1
        eor     w2, w2, w0
        and     w2, w2, #0xff
        ldr     w2, [x8, w2, uxtw #2]
        eor     w0, w2, w0, lsr #8
        subs    w5, w5, #1
        b.ne    .byte
        subs    w12, w12, #1
        b.ne    .round
        mvn     w0, w0
        and     w0, w0, #127
        mov     x8, #93
        svc     #0
