# input: 12 30 7\n
# output: 49\n
# status: 0
# Source-first order: reads numbers from standard input, adds them and writes the sum.
        .operands source-first
        .globl  _start
        .bss
log:    .skip   64
text:   .skip   12
        .text
_start: movl    $3, %eax
        xorl    %ebx, %ebx
        movl    $log, %ecx
        movl    $64, %edx
        int     $0x80
        testl   %eax, %eax
        jle     .done
        leal    log(%eax), %edi         # the end of what was read
        movl    $log, %esi
        xorl    %ebp, %ebp              # the sum
        xorl    %edx, %edx              # the number being read
.read:  lodsb
        subb    $'0', %al
        cmpb    $9, %al
        ja      .between
        movzbl  %al, %eax
        leal    (%edx,%edx,4), %edx
        leal    (%eax,%edx,2), %edx
        jmp     .more
.between:
        addl    %edx, %ebp
        xorl    %edx, %edx
.more:  cmpl    %edi, %esi
        jb      .read
        addl    %edx, %ebp
        movl    %ebp, %eax
        movl    $text+11, %edi
        movb    $'\n', (%edi)
        movl    $10, %ecx
.digit: xorl    %edx, %edx
        divl    %ecx
        addb    $'0', %dl
        decl    %edi
        movb    %dl, (%edi)
        testl   %eax, %eax
        jnz     .digit
        movl    $4, %eax
        movl    $1, %ebx
        movl    %edi, %ecx
        movl    $text+12, %edx
        subl    %edi, %edx
        int     $0x80
.done:  movl    $1, %eax
        xorl    %ebx, %ebx
        int     $0x80
