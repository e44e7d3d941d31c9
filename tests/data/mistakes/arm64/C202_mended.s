// C202, mended
        .target arm64
        .global _start
        .text
_start: sub     sp, sp, #16
        str     wzr, [sp]
        ldr     w1, [sp]
        cbz     w1, .out
.out:
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
