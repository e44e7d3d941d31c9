// C107, mended
        .target arm64
        .global _start
        .text
//: takes    w0 = depth
//: returns  w0 = twice
//: changes  x9
lamp:   mov     w9, w0
        add     w0, w9, w9
        ret
_start: mov     w0, #4
        mov     w9, #0
        bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
