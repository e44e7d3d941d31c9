// like C101, and right
        .target arm64
        .global _start
        .global lamp
        .text
lamp:   stp     x29, x30, [sp, #-32]!
        stp     x19, x20, [sp, #16]
        mov     x19, #5
        mov     x20, #6
        ldp     x19, x20, [sp, #16]
        ldp     x29, x30, [sp], #32
        ret
_start: mov     x19, #3
        bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
