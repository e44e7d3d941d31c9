// C101, mended
        .target arm64
        .global _start
        .global lamp
        .text
lamp:   str     x19, [sp, #-16]!
        mov     x19, #5
        ldr     x19, [sp], #16
        ret
_start: mov     x19, #3
        bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
