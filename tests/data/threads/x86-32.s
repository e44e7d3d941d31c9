        .target x86-32
        .global _start
        .section .tdata, "awT"
        .balign 4
tide:   .long   40
        .section .tbss, "awT", @nobits
calls:  .zero   4
        .data
segment: .long  -1, block.end, 0xfffff, 0x51
        .bss
        .balign 16
block:  .zero   64
.end:
        .text
chosen: mov     eax, offset plus_two
        ret
        .global plus
        .type   plus, @gnu_indirect_function
        .set    plus, chosen
plus_two:
        lea     eax, [edi + 2]
        ret

_start: mov     dword [block.end - 8], 40       // the template, aligned to 4
        mov     eax, 243                        // set_thread_area
        mov     ebx, offset segment
        int     0x80
        mov     eax, [segment]
        lea     eax, [eax*8 + 3]
        mov     gs, ax
        mov     ebx, offset __rel_iplt_start
.each:  cmp     ebx, offset __rel_iplt_end
        jae     .ready
        mov     edx, [ebx]
        call    [edx]
        mov     [edx], eax
        add     ebx, 8
        jmp     .each
.ready: inc     dword [gs:calls@ntpoff]
        mov     eax, [tide@indntpoff]
        mov     edi, [gs:eax]
        add     edi, [gs:calls@ntpoff]
        call    plus
        mov     ebx, eax
        mov     eax, 1
        int     0x80
