//! Albums: who may do what with one, and what can be written about it.

/// What somebody may do with an album. More is greater.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum May {
    /// See what is in it, and take it along.
    Look,
    /// The same, and put pictures of one's own into it, or take them out.
    Add,
    /// It is theirs: they name it, share it, take out whatever is in it, and take it apart.
    Own,
}

impl May {
    /// The word in the database, the API and the ledger.
    pub fn word(self) -> &'static str {
        match self {
            May::Look => "look",
            May::Add => "add",
            May::Own => "own",
        }
    }

    /// What an album can be shared for.
    pub fn shared(word: &str) -> Option<May> {
        [May::Look, May::Add].into_iter().find(|may| may.word() == word)
    }

    /// As it is counted in the database.
    pub fn of_rank(rank: i16) -> Option<May> {
        match rank {
            1 => Some(May::Look),
            2 => Some(May::Add),
            3 => Some(May::Own),
            _ => None,
        }
    }
}

/// A name has so many characters at most.
pub const LONGEST_NAME: usize = 100;
/// What is written about an album has so many.
pub const LONGEST_WORDS: usize = 2000;

/// What turns the text after it around, or ends that: in a name it makes other words of those beside it.
pub(crate) fn turns(c: char) -> bool {
    matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// A name as it is kept: one line, without what cannot be seen. `None`: it is none, or too long.
///
/// ```
/// use ypogeion_core::album::name;
/// assert_eq!(name("  A summer \n at the weir ").as_deref(), Some("A summer at the weir"));
/// assert_eq!(name(" \t"), None);
/// ```
pub fn name(typed: &str) -> Option<String> {
    let name = one_line(typed);
    (!name.is_empty() && name.chars().count() <= LONGEST_NAME).then_some(name)
}

/// What somebody typed, as one line without what cannot be seen.
pub(crate) fn one_line(typed: &str) -> String {
    let spaced: String = typed.chars().filter(|c| !turns(*c)).map(|c| if c.is_control() { ' ' } else { c }).collect();
    spaced.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// What somebody writes about an album, as it is kept; lines stay lines. `None`: it is too long.
pub fn words(typed: &str) -> Option<String> {
    let kept: String = typed.replace("\r\n", "\n").chars().filter(|c| *c == '\n' || !c.is_control() && !turns(*c)).collect();
    let kept = kept.trim().to_owned();
    (kept.chars().count() <= LONGEST_WORDS).then_some(kept)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_is_greater_and_words_and_ranks_lead_back() {
        assert!(May::Look < May::Add && May::Add < May::Own);
        for (rank, may) in [(1, May::Look), (2, May::Add), (3, May::Own)] {
            assert_eq!(May::of_rank(rank), Some(may));
            assert_eq!(May::shared(may.word()), Some(may).filter(|may| *may != May::Own), "nobody is given what is another's");
        }
        assert_eq!((May::of_rank(0), May::of_rank(4), May::shared("everything")), (None, None, None));
    }

    #[test]
    fn a_name_is_one_line_that_can_be_seen() {
        assert_eq!(name("Weir\u{202e}gpj.exe").as_deref(), Some("Weirgpj.exe"));
        assert_eq!(name("a\u{0}b").as_deref(), Some("a b"));
        assert_eq!(name(&"ß".repeat(LONGEST_NAME)).map(|n| n.chars().count()), Some(LONGEST_NAME));
        assert_eq!((name(&"ß".repeat(LONGEST_NAME + 1)), name("\u{202e}\u{2066}\n")), (None, None));
        assert_eq!(words(" one\r\n\u{202e}two\u{7} \n").as_deref(), Some("one\ntwo"));
        assert_eq!((words(&"x".repeat(LONGEST_WORDS + 1)), words("").as_deref()), (None, Some("")));
    }

    #[test]
    fn what_is_kept_is_kept_again() {
        let parts = ["weir", " ", "\n", "\r\n", "\u{202e}", "\u{0}", "ß", "\u{85}", "\u{a0}", "🪁"];
        for n in 0..parts.len().pow(4) {
            let typed: String = (0..4).map(|at| parts[n / parts.len().pow(at) % parts.len()]).collect();
            if let Some(kept) = name(&typed) {
                assert_eq!(name(&kept).as_ref(), Some(&kept), "{typed:?}");
            }
            let kept = words(&typed).expect("it is short");
            assert_eq!(words(&kept).as_ref(), Some(&kept), "{typed:?}");
        }
    }
}
