// C101: a preserved register is not restored
        .target arm64
        .global _start
        .global lamp
        .text
lamp:   mov     x19, #5
        ret
_start: mov     x19, #3
        bl      lamp
        mov     x8, #93                 // exit
        mov     x0, #0
        svc     #0
