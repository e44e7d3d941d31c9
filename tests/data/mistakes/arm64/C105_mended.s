// C105, mended
        .target arm64
        .global _start
        .global fog
        .text
fog:    mov     x9, #9
        mov     x0, x9
        ret
_start: mov     x19, #3
again:  bl      fog
        subs    x19, x19, #1
        b.ne    again
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
