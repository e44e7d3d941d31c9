//! The directives that decide which lines are read, and how often.

/// A directive that decides which lines are read.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Structure {
    Include,
    If,
    IfDefined(bool),
    /// Whether nothing follows, as the directive wants it.
    IfBlank(bool),
    /// Whether two texts are the same, as the directive wants it.
    IfSame(bool),
    /// One that begins as these do and is none of them.
    IfUnknown,
    ElseIf,
    Else,
    EndIf,
    Repeat,
    RepeatFor,
    RepeatForCharacters,
    EndRepeat,
    Macro,
    ExitMacro,
    EndMacro,
}

impl Structure {
    /// Whether it opens a conditional.
    pub(crate) fn opens_condition(self) -> bool {
        matches!(
            self,
            Structure::If
                | Structure::IfDefined(_)
                | Structure::IfBlank(_)
                | Structure::IfSame(_)
                | Structure::IfUnknown
        )
    }
}

/// Name, and whether its dot may be dropped.
pub(crate) const DIRECTIVES: &[(&str, bool, Structure)] = &[
    (".include", true, Structure::Include),
    (".if", false, Structure::If),
    (".ifdef", false, Structure::IfDefined(true)),
    (".ifndef", false, Structure::IfDefined(false)),
    (".ifb", false, Structure::IfBlank(true)),
    (".ifnb", false, Structure::IfBlank(false)),
    (".ifc", false, Structure::IfSame(true)),
    (".ifnc", false, Structure::IfSame(false)),
    (".elseif", false, Structure::ElseIf),
    (".else", false, Structure::Else),
    (".endif", false, Structure::EndIf),
    (".rept", false, Structure::Repeat),
    (".irp", false, Structure::RepeatFor),
    (".irpc", false, Structure::RepeatForCharacters),
    (".endr", false, Structure::EndRepeat),
    (".macro", false, Structure::Macro),
    (".exitm", false, Structure::ExitMacro),
    (".endm", false, Structure::EndMacro),
];

/// Whether an unknown word is meant to open a conditional, which then has an `.endif` of its own.
pub(crate) fn begins_condition(word: &str) -> bool {
    word.get(..3).is_some_and(|start| start.eq_ignore_ascii_case(".if"))
}
