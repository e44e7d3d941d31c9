// C201, mended
        .target arm64
        .global _start
        .text
_start: mov     x9, #0
        adds    x9, x9, #1
        b.eq    .out
.out:
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
