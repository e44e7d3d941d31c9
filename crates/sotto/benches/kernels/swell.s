; The height of a swell by a polynomial, over eight million moments: arithmetic on doubles.
        .target x86-64
        .global _start
        .data
        .align 8
step:   .double 0.000001
third:  .double 0.16666666666666666
fifth:  .double 0.008333333333333333
damp:   .double 0.999999
        .text
_start: mov     ecx, 8000000
        xorpd   xmm0, xmm0              ; time
        xorpd   xmm4, xmm4              ; sum
        movsd   xmm5, [step]
        movsd   xmm6, [third]
        movsd   xmm7, [fifth]
        movsd   xmm8, [damp]
.moment:
        addsd   xmm0, xmm5
        movapd  xmm1, xmm0
        mulsd   xmm1, xmm0              ; t squared
        movapd  xmm2, xmm7
        mulsd   xmm2, xmm1
        subsd   xmm2, xmm6
        mulsd   xmm2, xmm1
        mulsd   xmm2, xmm0
        addsd   xmm2, xmm0
        mulsd   xmm4, xmm8
        addsd   xmm4, xmm2
        dec     ecx
        jnz     .moment
        cvttsd2si edi, xmm4
        and     edi, 127
        mov     eax, 60
        syscall
