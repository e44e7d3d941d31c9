// C103: the link register is overwritten by a call
        .target arm64
        .global _start
        .text
fog:    mov     x0, #1
        ret
lamp:   bl      fog
        cbz     x0, .out
        b       .out
.out:   ret
_start: bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
