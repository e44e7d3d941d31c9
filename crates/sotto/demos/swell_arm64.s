// The swell at the buoy on the ARM board: mean, largest and energy of eight heights, four at a time. The status is the largest
// in decimetres.

        .target arm64
        .global _start

        .data
        .align  4
heights:
        .float  1.5, 2.25, 3.0, 2.75, 1.25, 0.5, 4.0, 3.75      // metres
energy: .double 0.0

        .text
_start:
        adr     x0, heights
        ld1     {v0.4s, v1.4s}, [x0]

        fadd    v2.4s, v0.4s, v1.4s     // the mean: sums of two, of four, of eight
        faddp   v2.4s, v2.4s, v2.4s
        faddp   s2, v2.2s
        fmov    s3, #0.125
        fmul    s2, s2, s3

        fmax    v4.4s, v0.4s, v1.4s     // the largest
        fmaxv   s4, v4.4s

        fmul    v5.4s, v0.4s, v0.4s     // squares, and more squares added to them
        fmla    v5.4s, v1.4s, v1.4s
        faddp   v5.4s, v5.4s, v5.4s
        faddp   s5, v5.2s
        fcvt    d5, s5
        adr     x1, energy
        str     d5, [x1]

        fcmp    s4, s2                  // a swell is as high as its mean at least
        csetm   w2, ge
        fmov    s6, #10.0
        fmul    s4, s4, s6
        fcvtas  w0, s4                  // decimetres, to the nearest
        and     w0, w0, w2
        mov     x8, #93                 // exit
        svc     #0
