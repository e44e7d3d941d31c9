// C207, mended
        .target arm64
        .global _start
        .text
_start: mov     w0, 240                 // bearing
        mov     w1, 30
        add     w2, w1, w0
        mov     w0, 0
        mov     w8, 93                  // exit
        svc     0
