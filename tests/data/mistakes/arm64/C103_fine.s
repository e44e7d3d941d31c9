// like C103, and right
        .target arm64
        .global _start
        .text
fog:    mov     x0, #1
        ret
lamp:   mov     x9, x30                 // kept in a register
        bl      fog
        mov     x30, x9
        ret
_start: bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
