        .target arm64
        .global _start
        .section .tdata, "awT"
        .balign 4
tide:   .long   40
        .section .tbss, "awT", @nobits
calls:  .zero   4
        .bss
        .balign 16
block:  .zero   64
        .text
chosen: adr     x0, plus_two
        ret
        .global plus
        .type   plus, %gnu_indirect_function
        .set    plus, chosen
plus_two:
        add     w0, w0, #2
        ret

_start: ldr     x1, =block
        msr     tpidr_el0, x1
        mov     w2, #40
        str     w2, [x1, #16]           // the template behind a header of 16 bytes
        ldr     x19, =__rela_iplt_start
        ldr     x20, =__rela_iplt_end
.each:  cmp     x19, x20
        b.hs    .ready
        ldr     x2, [x19, #16]
        blr     x2
        ldr     x2, [x19], #24
        str     x0, [x2]
        b       .each
.ready: mrs     x1, tpidr_el0
        add     x3, x1, #:tprel_hi12:calls
        add     x3, x3, #:tprel_lo12_nc:calls
        mov     w4, #1
        str     w4, [x3]
        adrp    x5, :gottprel:tide
        ldr     x5, [x5, :gottprel_lo12:tide]
        ldr     w0, [x1, x5]
        ldr     w4, [x3]
        add     w0, w0, w4
        bl      plus
        mov     x8, #93
        svc     #0
