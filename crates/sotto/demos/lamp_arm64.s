// The lamp on the station's 64-bit ARM board: says it is lit, three times, by a routine.

        .target arm64
        .global _start

        .rodata
text:   .ascii  "lamp lit\n"
length  = . - text

        .text
_start:
        mov     x19, #3                 // flashes to go
again:
        bl      flash
        subs    x19, x19, #1
        b.ne    again

        mov     x0, #0                  // status 0: all is well
        mov     x8, #93                 // exit
        svc     #0

//: writes the message once
//: changes  x0, x1, x2, x8
flash:
        stp     x29, x30, [sp, #-16]!   // the return address, for this routine's own calls
        mov     x0, #1                  // standard output
        adr     x1, text
        mov     x2, #length
        mov     x8, #64                 // write
        svc     #0
        ldp     x29, x30, [sp], #16
        ret
