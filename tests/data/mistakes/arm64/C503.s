// C503: execution falls through into data
        .target arm64
        .global _start
        .text
_start: ldr     w1, lamps
        cmp     w1, 3
        b.ne    .dark
        mov     w0, 0
        mov     w8, 93                  // exit
        svc     0
.dark:  mov     w0, 1
lamps:  .long   3
