use std::fmt;

/// One step of the way to a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Into a table.
    Name(String),
    /// Into a list, counted from 0.
    At(usize),
}

/// Where a value stands, as in `channels.finish-line.keys[2].expires_at`; a list is counted from 1, as people do.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Path(pub Vec<Step>);

impl Path {
    /// A path of names.
    pub fn of(names: &[&str]) -> Self {
        Self(names.iter().map(|name| Step::Name((*name).to_owned())).collect())
    }

    /// The path of what this one has under a name.
    #[must_use]
    pub fn with(&self, name: &str) -> Self {
        self.then(Step::Name(name.to_owned()))
    }

    /// The path of one of the items.
    #[must_use]
    pub fn at(&self, place: usize) -> Self {
        self.then(Step::At(place))
    }

    /// The path of a field that is told with dots, as in `viewing.back_ms`; none for the thing itself.
    #[must_use]
    pub fn field(&self, dotted: &str) -> Self {
        dotted.split('.').filter(|name| !name.is_empty()).fold(self.clone(), |path, name| path.with(name))
    }

    fn then(&self, step: Step) -> Self {
        Self(self.0.iter().cloned().chain([step]).collect())
    }
}

impl fmt::Display for Path {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, step) in self.0.iter().enumerate() {
            match step {
                Step::At(at) => write!(out, "[{}]", at + 1)?,
                Step::Name(name) => {
                    let dot = if place == 0 { "" } else { "." };
                    write!(out, "{dot}{}", crate::writing::key(name))?;
                }
            }
        }
        Ok(())
    }
}
