// C103: the link register is overwritten by a call
        .target arm64
        .global _start
        .text
fog:    mov     x0, #1
        ret
lamp:   bl      fog
        sub     x0, x0, #1
        tbnz    x0, #63, quit           // the second time round
        ret
quit:
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
_start: bl      lamp
        b       quit
