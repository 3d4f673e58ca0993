use std::fmt;

/// Who does something in the house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Actor {
    /// A person, at the console.
    Person {
        /// The person's number.
        id: u64,
        /// The person's name.
        name: String,
    },
    /// A program, by a token of a person's.
    Token {
        /// The person's number.
        person_id: u64,
        /// The person's name.
        person: String,
        /// What the token is called.
        label: String,
    },
    /// The house itself, by a rule.
    House,
}

impl fmt::Display for Actor {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Person { name, .. } => out.write_str(name),
            // Whose token it is says more to people than which.
            Self::Token { person, .. } => out.write_str(person),
            Self::House => out.write_str("the house"),
        }
    }
}
