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

/// Pointer authentication, memory tags, and what came after the base architecture.
const ARM64: &str = "
    autda autdb autdza autdzb autia autib axflag bcax bfcvt bfcvtn bfcvtn2 bfdot bfmlalb bfmlalt bfmmla blraa blraaz
    blrab blrabz braa braaz brab brabz cfinv eor3 eretaa eretab fcadd fcmla fjcvtzs fmlal fmlal2 fmlsl fmlsl2 frint32x
    frint32z frint64x frint64z ldapur ldraa ldrab pacda pacdb pacga pacia pacib rax1 retaa retab rmif setf16 setf8 smmla
    stlur sudot sys tsb ummla usdot usmmla uxtw xaflag xpacd xpaci
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
        for (arch, word) in [(Arch::X86_64, "fld"), (Arch::X86_32, "fstpl"), (Arch::Arm64, "retaa")]
        {
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
