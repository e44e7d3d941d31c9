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
