        .target x86-64
;: takes    rdi = table: address, esi = count
;: returns  eax = mean
;: changes  rcx, rdx
mean_:  xor     eax, eax
        xor     ecx, ecx
.next:  add     eax, [rdi + rcx*4]
        inc     ecx
        cmp     ecx, esi
        jb      .next
        xor     edx, edx
        div     esi
        ret
;: takes    rdi = table: address, esi = count
;: returns  eax = most
;: changes  rcx, rdx
highest_: xor   eax, eax
        xor     ecx, ecx
.next:  mov     edx, [rdi + rcx*4]
        cmp     edx, eax
        cmova   eax, edx
        inc     ecx
        cmp     ecx, esi
        jb      .next
        ret
;: takes    rdi = log: text
;: returns  eax = letters: i32
;: changes  rdi, rcx
shout_: xor     eax, eax
.next:  movzx   ecx, byte [rdi]
        test    ecx, ecx
        jz      .done
        cmp     ecx, 'a'
        jb      .skip
        cmp     ecx, 'z'
        ja      .skip
        sub     byte [rdi], 32
.skip:  inc     eax
        inc     rdi
        jmp     .next
.done:  ret
;: takes    xmm0 = height: f64, edi = factor: i32
;: returns  xmm0 = higher: f64
;: changes  xmm1, rax
raise_: cvtsi2sd xmm1, edi
        mulsd   xmm0, xmm1
        mov     eax, 1
        cvtsi2sd xmm1, eax
        addsd   xmm0, xmm1
        ret
;: takes    edi = value: i32, esi = low: i32, edx = high: i32
;: returns  eax = clamped: i32
clamp_: mov     eax, edi
        cmp     edi, edx
        cmovg   eax, edx
        cmp     edi, esi
        cmovl   eax, esi
        ret
;: takes    edi = pattern
;: returns  eax = seconds: i32
;: changes  rdi
lit_:   xor     eax, eax
.next:  test    edi, edi
        jz      .done
        shr     edi, 1
        adc     eax, 0
        jmp     .next
.done:  ret
