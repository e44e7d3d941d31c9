// like C107, and right
        .target arm64
        .global _start
        .text
//: takes    w0 = depth
//: returns  w0 = twice
lamp:   add     w0, w0, w0
        ret
_start: mov     w0, #4
        bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
