; Counts the buoys of a chain by recursion; each buoy holds the address of the next.
; status: 5
        .target x86-64
        .global _start

        .data
        .balign 8
buoy_1: .quad   buoy_2, 11
buoy_2: .quad   buoy_3, 22
buoy_3: .quad   buoy_4, 33
buoy_4: .quad   buoy_5, 44
buoy_5: .quad   0, 55

        .text
_start:
        lea     rdi, [buoy_1]
        call    count
        mov     edi, eax
        mov     eax, 231
        syscall

;: how many buoys the chain has
;: takes    rdi = first: address
;: returns  eax = count
;: changes  rdi
count:
        push    rbp
        mov     rbp, rsp
        sub     rsp, 16
        mov     [rbp - 8], rdi
        xor     eax, eax
        test    rdi, rdi
        je      .end
        mov     rdi, [rdi]
        call    count
        inc     eax
.end:
        mov     rsp, rbp
        pop     rbp
        ret
