// Mistakes of the ARM board's programs, one a line.
        .target arm64
        .data
tide:   .word   4, 7
        .text
_start:
        movv    x0, #1                  // !A101 movv
        mov     x0, w1                  // !A107 mov     x0, w1
        mov     x0, #0x12345            // !A108 #0x12345
        and     x0, x1, #5              // !A108 #5
        add     x0, x1, #4097           // !A108 #4097
        add     x0, x1, x2, lsl #70     // !A108 70
        add     x0, =tide               // !A104 =tide
        add     x0, x0, tide            // !A113 tide
        ldr     x0, [tide]              // !A104 tide
        ldr     x0, [x1, #40000]        // !A108 [x1, #40000]
        ldr     x0, [x1, x2, lsl #2]    // !A108 [x1, x2, lsl #2]
        str     w0, [w1]                // !A107 str     w0, [w1]
        b.up    _start                  // !A101 b.up
        cset    x0, up                  // !A111 up
        bl      nowhere                 // !A111 nowhere
        lsl     x0, x1, #64             // !A108 #64
        syscall                         // !A101 syscall
        add     v0.5s, v1.4s, v2.4s     // !A104 v0.5s
        add     v0.4s, v1.4s, v2.8h     // !A107 add     v0.4s, v1.4s, v2.8h
        mov     w0, v1.s[4]             // !A108 4
        ld1     {v0.4s, v2.4s}, [x0]    // !A104 {v0.4s, v2.4s
        ld1     {v0.4s}, [x0], #8       // !A108 [x0], #8
        fmov    d0, #0.1                // !A108 #0.1
        sshr    v0.4s, v1.4s, #0        // !A108 #0
        ubfx    x0, x1, #60, #8         // !A108 #8
        stp     x0, x1, [x2, #4]        // !A108 [x2, #4]
        ldr     x0, [x1, w2]            // !A107 ldr     x0, [x1, w2]
        cmp     xzr, #1                 // !A107 cmp     xzr, #1
