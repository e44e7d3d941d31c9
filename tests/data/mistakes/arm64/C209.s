// C209: a signed branch after an unsigned comparison, or the reverse
        .target arm64
        .global _start
        .text
_start: mov     w1, -20
        cmp     w1, 0
        b.lo    .out                    // never below 0
        mov     w1, 1
.out:
        mov     w0, 0
        mov     w8, 93                  // exit
        svc     0
