use std::fmt;

/// What somebody may do in the house. Each may do what those before may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// Sees shows, recordings, findings and reports, and changes nothing.
    Observer,
    /// Runs shows: ends them, switches destinations, records, rehearses, works on recordings, lets guests watch.
    Operator,
    /// Sets the house up: channels, keys, destinations, depots, and the log.
    Engineer,
    /// Lets people in.
    Administrator,
}

/// What a call does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Deed {
    /// It looks at something that everybody of the crew may see, or is about the caller alone.
    Look,
    /// It is about a show that runs, or about recordings.
    Run,
    /// It changes how the house is set up, or tells what only who does may see.
    SetUp,
    /// It is about people.
    LetIn,
    /// It tells a secret that was given to the house.
    Reveal,
}

/// The words of roles, from the least on.
const WORDS: [(Role, &str); 4] = [
    (Role::Observer, "observer"),
    (Role::Operator, "operator"),
    (Role::Engineer, "engineer"),
    (Role::Administrator, "administrator"),
];

impl Role {
    /// All roles, from the least on.
    pub fn all() -> impl Iterator<Item = Self> {
        WORDS.iter().map(|(role, _)| *role)
    }

    /// True if who has this role may do it.
    pub fn may(self, deed: Deed) -> bool {
        self >= deed.least()
    }

    /// The stable word.
    pub fn word(self) -> &'static str {
        WORDS.iter().find(|(role, _)| *role == self).map_or("observer", |(_, word)| word)
    }

    /// The role with this word.
    pub fn from_word(word: &str) -> Option<Self> {
        WORDS.iter().find(|(_, known)| *known == word).map(|(role, _)| *role)
    }
}

impl fmt::Display for Role {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.word())
    }
}

impl Deed {
    /// The least role that may do it.
    pub fn least(self) -> Role {
        match self {
            Self::Look => Role::Observer,
            Self::Run => Role::Operator,
            Self::SetUp => Role::Engineer,
            Self::LetIn | Self::Reveal => Role::Administrator,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Role::Observer, [true, false, false, false])]
    #[case(Role::Operator, [true, true, false, false])]
    #[case(Role::Engineer, [true, true, true, false])]
    #[case(Role::Administrator, [true, true, true, true])]
    fn each_may_do_what_those_before_may(#[case] role: Role, #[case] expected: [bool; 4]) {
        assert_eq!([Deed::Look, Deed::Run, Deed::SetUp, Deed::LetIn].map(|deed| role.may(deed)), expected);
        assert_eq!(Role::from_word(role.word()), Some(role));
    }

    #[test]
    fn a_word_that_is_none_is_no_role() {
        assert_eq!(Role::from_word("root"), None);
        assert_eq!(Role::all().count(), 4);
    }
}
