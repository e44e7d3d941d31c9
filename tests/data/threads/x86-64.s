        .target x86-64
        .global _start
        .section .tdata, "awT"
        .balign 4
tide:   .long   40
        .section .tbss, "awT", @nobits
calls:  .zero   4
        .bss
        .balign 16
block:  .zero   64
.end:
        .text
chosen: lea     rax, [plus_two]        // the routine that chooses
        ret
        .global plus
        .type   plus, @gnu_indirect_function
        .set    plus, chosen
plus_two:
        lea     eax, [rdi + 2]
        ret

_start: lea     rbx, [__ehdr_start]     // the file header: e_phoff and e_phnum
        mov     rsi, [rbx + 32]
        add     rsi, rbx
        movzx   ecx, word [rbx + 56]
.find:  cmp     dword [rsi], 7          // PT_TLS
        je      .found
        add     rsi, 56
        dec     ecx
        jnz     .find
        ud2
.found: mov     rcx, [rsi + 32]         // p_filesz
        mov     rax, [rsi + 40]         // p_memsz, up to a multiple of p_align
        mov     rdx, [rsi + 48]
        lea     rax, [rax + rdx - 1]
        neg     rdx
        and     rax, rdx
        mov     rsi, [rsi + 16]         // p_vaddr
        lea     rbp, [block.end]
        mov     rdi, rbp
        sub     rdi, rax
        rep movsb
        mov     eax, 158                // arch_prctl
        mov     edi, 0x1002             // ARCH_SET_FS
        mov     rsi, rbp
        syscall
        lea     rbx, [__rela_iplt_start]
.each:  lea     rax, [__rela_iplt_end]
        cmp     rbx, rax
        jae     .ready
        call    [rbx + 16]
        mov     rdx, [rbx]
        mov     [rdx], rax
        add     rbx, 24
        jmp     .each
.ready: inc     dword [fs:calls@tpoff]
        mov     rax, [rip + tide@gottpoff]
        mov     edi, [fs:rax]
        add     edi, [fs:calls@tpoff]
        call    plus
        mov     edi, eax
        mov     eax, 60
        syscall
