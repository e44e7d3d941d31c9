//! Mnemonics of the manuals that no row has yet, so that a source with one is told so, and not of a slip.
//!
//! A mnemonic leaves the list when its row comes; a test holds the lists against the tables.
//!
//! Sources: SDM Vol. 2; Arm ARM, C6.2 and C7.2.

/// The x87 unit, MMX, and the extensions after SSE4.2.
const X86: &str = "
    f2xm1 fabs fadd faddp fbld fbstp fchs fclex fcmovb fcmovbe fcmove fcmovnb fcmovnbe fcmovne fcmovnu fcmovu
    fcom fcomi fcomip fcomp fcompp fcos fdecstp fdiv fdivp fdivr fdivrp ffree fiadd ficom ficomp fidiv fidivr
    fild fimul fincstp finit fist fistp fisttp fisub fisubr fld fld1  fldl2e fldl2t fldlg2 fldln2 fldpi
    fldz fmul fmulp   fnop fnsave  fpatan fprem fprem1 fptan frndint frstor fsave fscale
    fsin fsincos fsqrt fst fstenv fstp fsub fsubp fsubr fsubrp ftst fucom fucomi fucomip fucomp fucompp fxam
    fxch fxtract fyl2x fyl2xp1      cvtpd2pi cvtpi2pd cvtpi2ps cvtps2pi cvttpd2pi cvttps2pi emms maskmovq movdq2q movntq movq2dq pshufw
    aesdec aesdeclast aesenc aesenclast aesimc aeskeygenassist pclmulqdq sha1msg1 sha1msg2 sha1nexte sha1rnds4
    sha256msg1 sha256msg2 sha256rnds2 gf2p8affineinvqb gf2p8affineqb gf2p8mulb
    vbroadcastf128 vbroadcasti128 vbroadcastsd vbroadcastss vcvtph2ps vcvtps2ph vextractf128 vextracti128
    vinsertf128 vinserti128 vmaskmovpd vmaskmovps vperm2f128 vperm2i128 vpermd vpermilpd vpermilps vpermpd
    vpermps vpermq vpblendd vpbroadcastb vpbroadcastd vpbroadcastq vpbroadcastw vpmaskmovd vpmaskmovq vpsllvd
    vpsllvq vpsravd vpsrlvd vpsrlvq vtestpd vtestps vzeroall vzeroupper vgatherdpd vgatherdps vgatherqpd
    vgatherqps vpgatherdd vpgatherdq vpgatherqd vpgatherqq vpternlogd vpternlogq
    xabort xbegin xend xtest xsave xsavec xsaveopt xrstor xgetbv clwb clflushopt  rdpkru wrpkru
    movdiri movdir64b cldemote tpause umonitor umwait enqcmd serialize
";

/// Everything that user mode executes beyond the integer core that has rows.
const ARM64: &str = "
    adc adcs asrv bics autda autdb autdza autdzb autia autia1716 autiasp autiaz autib autib1716 autibsp autibz axflag
    bfc bfi bfm bfxil bti cas casa casab casah casal casalb casalh casb cash casl caslb caslh casp caspa caspal caspl
    ccmn ccmp cfinv cinc cinv clrex cls cneg crc32b crc32cb crc32ch crc32cw crc32cx crc32h crc32w crc32x csdb
    csetm dc dgh dmb dsb dup esb extr hlt ic isb ldadd ldadda ldaddal ldaddl ldapr ldaprb ldaprh ldapur ldar ldarb
    ldarh ldaxp ldaxr ldaxrb ldaxrh ldclr ldclra ldclral ldclrl ldeor ldeora ldeoral ldeorl ldnp ldpsw ldset
    ldseta ldsetal ldsetl ldsmax ldsmin ldtr ldtrb ldtrh ldtrsb ldtrsh ldtrsw ldumax ldumin ldxp ldxr ldxrb ldxrh
    lslv lsrv  mneg mrs msr  ngc ngcs  pacda pacdb pacga pacia pacia1716 paciasp paciaz pacib
    pacibsp pacibz prfm prfum pssbb rbit retaa retab rev rev16 rev32 rev64 rmif ror rorv sb sbc sbcs sbfiz sbfm
    sbfx setf16 setf8 sev sevl smaddl smnegl smsubl smulh smull ssbb stadd staddl stclr steor stset stllr stlr
    stlrb stlrh stlur stlxp stlxr stlxrb stlxrh stnp sttr sttrb sttrh stxp stxr stxrb stxrh swp swpa swpab swpah
    swpal swpalb swpalh swpb swph swpl swplb swplh sxtb sxth sxtw sys tsb ubfiz ubfm ubfx umaddl umnegl umsubl
    umulh umull uxtb uxth uxtw wfe wfi xaflag xpacd xpaci xpaclri yield
    abs addhn addhn2 addp addv aesd aese aesimc aesmc bcax  bif bit bsl cls clz cmeq cmge cmgt cmhi cmhs cmle
    cmlt cmtst cnt eor3 ext fabd fabs facge facgt fadd faddp fcadd fccmp fccmpe fcmeq fcmge fcmgt fcmla fcmle
    fcmlt fcmp fcmpe fcsel fcvt fcvtas fcvtau fcvtl fcvtl2 fcvtms fcvtmu fcvtn fcvtn2 fcvtns fcvtnu fcvtps fcvtpu
    fcvtxn fcvtxn2 fcvtzs fcvtzu fdiv fjcvtzs fmadd fmax fmaxnm fmaxnmp fmaxnmv fmaxp fmaxv fmin fminnm fminnmp
    fminnmv fminp fminv fmla fmlal fmlal2 fmls fmlsl fmlsl2 fmov fmsub fmul fmulx fneg fnmadd fnmsub fnmul frecpe
    frecps frecpx frinta frinti frintm frintn frintp frintx frintz frsqrte frsqrts fsqrt fsub ins ld1 ld1r ld2
    ld2r ld3 ld3r ld4 ld4r mla mls movi mvni not pmul pmull pmull2 raddhn raddhn2 rax1 rshrn rshrn2 rsubhn rsubhn2
    saba sabal sabal2 sabd sabdl sabdl2 sadalp saddl saddl2 saddlp saddlv saddw saddw2 scvtf sdot sha1c sha1h
    sha1m sha1p sha1su0 sha1su1 sha256h sha256h2 sha256su0 sha256su1 shadd shl shll shll2 shrn shrn2 shsub sli
    smax smaxp smaxv smin sminp sminv smlal smlal2 smlsl smlsl2 smov smull2 sqabs sqadd sqdmlal sqdmlsl sqdmulh
    sqdmull sqneg sqrdmlah sqrdmlsh sqrdmulh sqrshl sqrshrn sqrshrun sqshl sqshlu sqshrn sqshrun sqsub sqxtn
    sqxtun srhadd sri srshl srshr srsra sshl sshll sshll2 sshr ssra ssubl ssubl2 ssubw ssubw2 st1 st2 st3 st4
    subhn subhn2 suqadd sxtl sxtl2 tbl tbx trn1 trn2 uaba uabal uabal2 uabd uabdl uabdl2 uadalp uaddl uaddl2
    uaddlp uaddlv uaddw uaddw2 ucvtf udot uhadd uhsub umax umaxp umaxv umin uminp uminv umlal umlal2 umlsl umlsl2
    umov umull2 uqadd uqrshl uqrshrn uqshl uqshrn uqsub uqxtn urecpe urhadd urshl urshr ursqrte ursra ushl ushll
    ushll2 ushr usqadd usra usubl usubl2 usubw usubw2 uxtl uxtl2 uzp1 uzp2 xtn xtn2 zip1 zip2
";

fn is_listed(list: &str, word: &str) -> bool {
    list.split_ascii_whitespace().any(|name| name == word)
}

/// Whether the word, in lower case, is an instruction of A64 that no row has.
pub(crate) fn in_arm64(word: &str) -> bool {
    is_listed(ARM64, word)
}

/// Whether the word, in lower case, is an instruction of x86 that no row has; `has_row` tells of others. In source-first
/// code it may carry the letter of its width.
pub(crate) fn in_x86(word: &str, has_row: impl Fn(&str) -> bool) -> bool {
    // The VEX forms go by the names of the legacy ones, with a V before.
    let vector =
        |word: &str| word.strip_prefix('v').is_some_and(|rest| rest.len() > 3 && has_row(rest));
    let fused = |word: &str| word.starts_with("vfm") || word.starts_with("vfnm");
    let known = |word: &str| is_listed(X86, word) || vector(word) || fused(word);
    let stem = word.strip_suffix(['s', 'l', 't', 'q', 'w']);
    // `fildll` and its like have two letters.
    known(word) || stem.is_some_and(|stem| known(stem) || stem.strip_suffix('l').is_some_and(known))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Arch, is_unmodelled, mnemonics};

    #[test]
    fn no_row_has_a_listed_mnemonic_of_the_integer_core() {
        for (arch, word) in [(Arch::X86_64, "fld"), (Arch::X86_32, "fstpl"), (Arch::Arm64, "mrs")] {
            assert!(is_unmodelled(arch, word), "{word}");
        }
        for (arch, word) in [(Arch::X86_64, "mov"), (Arch::X86_64, "vlamp"), (Arch::Arm64, "add")] {
            assert!(!is_unmodelled(arch, word), "{word}");
        }
        assert!(is_unmodelled(Arch::X86_64, "vaddpd") && is_unmodelled(Arch::X86_64, "fildll"));
    }

    #[test]
    fn lists_leave_out_what_has_a_row() {
        for (arch, list) in [(Arch::X86_64, X86), (Arch::Arm64, ARM64)] {
            for word in list.split_ascii_whitespace() {
                assert!(
                    mnemonics(arch).binary_search(&word).is_err(),
                    "`{word}` has a row on {arch}"
                );
            }
        }
    }
}
