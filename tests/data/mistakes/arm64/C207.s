// C207: a value is overwritten before it is used
        .target arm64
        .global _start
        .text
_start: mov     w1, 240                 // bearing
        mov     w1, 30
        add     w2, w1, 10
        mov     w0, 0
        mov     w8, 93                  // exit
        svc     0
