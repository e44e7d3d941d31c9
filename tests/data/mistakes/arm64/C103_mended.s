// C103, mended
        .target arm64
        .global _start
        .text
fog:    mov     x0, #1
        ret
lamp:   stp     x29, x30, [sp, #-16]!
        bl      fog
        ldp     x29, x30, [sp], #16
        ret
_start: bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
