// C105: a value is expected to survive a call that changes its register
        .target arm64
        .global _start
        .global fog
        .text
fog:    mov     x9, #9
        mov     x0, x9
        ret
_start: mov     x9, #3
again:  bl      fog
        subs    x9, x9, #9
        b.ne    again
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
