use std::collections::BTreeMap;
use std::fmt;

use super::{Deed, Role};

/// What somebody may do, and where: by a role in the house, which holds on every channel, and by roles on single
/// channels.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Grants {
    house: Option<Role>,
    channels: BTreeMap<u64, Role>,
}

/// What a token is kept within: it may do what its person may, but no more than this.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Scope {
    /// The highest role; none if it has no end but the person's.
    pub most: Option<Role>,
    /// On these channels alone; none if not kept to any.
    pub channels: Option<Vec<u64>>,
}

/// Where a call does what it does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Where {
    /// In the house as a whole.
    House,
    /// On this channel; none is one that there is not, or not any more.
    Channel(Option<u64>),
    /// Wherever the caller may: what it answers is kept to that.
    Anywhere,
}

impl Grants {
    /// A role in the house, if any, and roles on single channels.
    pub fn new(house: Option<Role>, channels: impl IntoIterator<Item = (u64, Role)>) -> Self {
        Self { house, channels: channels.into_iter().collect() }
    }

    /// The role in the house; none for who has channels only.
    pub fn house(&self) -> Option<Role> {
        self.house
    }

    /// The roles on single channels.
    pub fn channels(&self) -> impl Iterator<Item = (u64, Role)> + '_ {
        self.channels.iter().map(|(channel, role)| (*channel, *role))
    }

    /// The role on a channel, by whichever way it is the higher one.
    pub fn on_channel(&self, channel: u64) -> Option<Role> {
        self.house.max(self.channels.get(&channel).copied())
    }

    /// True if this may be done there.
    pub fn may(&self, deed: Deed, place: Where) -> bool {
        let role = match place {
            Where::House | Where::Channel(None) => self.house,
            Where::Channel(Some(channel)) => self.on_channel(channel),
            Where::Anywhere => self.house.max(self.channels.values().max().copied()),
        };
        role.is_some_and(|role| role.may(deed))
    }

    /// True if there is nothing that may not be seen for its channel.
    pub fn sees_house(&self) -> bool {
        self.house.is_some()
    }

    /// The channels that may be seen; none if all may.
    pub fn seen_channels(&self) -> Option<Vec<u64>> {
        (!self.sees_house()).then(|| self.channels.keys().copied().collect())
    }

    /// What is left within a scope.
    #[must_use]
    pub fn within(&self, scope: &Scope) -> Self {
        let kept = |role: Role| scope.most.map_or(role, |most| role.min(most));
        match &scope.channels {
            None => Self {
                house: self.house.map(kept),
                channels: self.channels().map(|(channel, role)| (channel, kept(role))).collect(),
            },
            Some(channels) => {
                let left = |channel: &u64| Some((*channel, kept(self.on_channel(*channel)?)));
                Self { house: None, channels: channels.iter().filter_map(left).collect() }
            }
        }
    }
}

/// As the log tells it.
impl fmt::Display for Grants {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.house {
            Some(role) => write!(out, "{role}, and roles on {} channels", self.channels.len()),
            None => write!(out, "roles on {} channels", self.channels.len()),
        }
    }
}

impl Scope {
    /// True if the token may all that its person may.
    pub fn is_whole(&self) -> bool {
        self.most.is_none() && self.channels.is_none()
    }

    /// True if it is for more than to look, everywhere: only such a token changes the account of its person.
    pub fn has_account(&self) -> bool {
        self.channels.is_none() && self.most.is_none_or(|most| most.may(Deed::Run))
    }

    /// What a token may be that a token within this scope asks for: never more than that one.
    #[must_use]
    pub fn narrowed(&self, wanted: Self) -> Self {
        let most = match (self.most, wanted.most) {
            (Some(own), Some(wanted)) => Some(own.min(wanted)),
            (own, wanted) => own.or(wanted),
        };
        let channels = match (&self.channels, wanted.channels) {
            (Some(own), Some(wanted)) => Some(wanted.into_iter().filter(|channel| own.contains(channel)).collect()),
            (Some(own), None) => Some(own.clone()),
            (None, wanted) => wanted,
        };
        Self { most, channels }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const WEIR: u64 = 3;
    const BOATHOUSE: u64 = 7;

    fn cox() -> Grants {
        Grants::new(None, [(WEIR, Role::Operator), (BOATHOUSE, Role::Observer)])
    }

    #[rstest]
    #[case::own_channel(Deed::Run, Where::Channel(Some(WEIR)), true)]
    #[case::less_there(Deed::Run, Where::Channel(Some(BOATHOUSE)), false)]
    #[case::more_there(Deed::SetUp, Where::Channel(Some(WEIR)), false)]
    #[case::another(Deed::Look, Where::Channel(Some(9)), false)]
    #[case::none(Deed::Look, Where::Channel(None), false)]
    #[case::house(Deed::Look, Where::House, false)]
    #[case::some(Deed::Run, Where::Anywhere, true)]
    #[case::nowhere(Deed::SetUp, Where::Anywhere, false)]
    fn roles_on_channels_hold_there(#[case] deed: Deed, #[case] place: Where, #[case] expected: bool) {
        assert_eq!(cox().may(deed, place), expected);
    }

    #[test]
    fn a_role_in_the_house_holds_on_every_channel() {
        let crew = Grants::new(Some(Role::Operator), [(WEIR, Role::Engineer), (BOATHOUSE, Role::Observer)]);
        assert_eq!(
            [WEIR, BOATHOUSE, 9].map(|id| crew.on_channel(id)),
            [Some(Role::Engineer), Some(Role::Operator), Some(Role::Operator)]
        );
        assert_eq!((crew.seen_channels(), cox().seen_channels()), (None, Some(vec![WEIR, BOATHOUSE])));
        assert!(!Grants::default().may(Deed::Look, Where::Anywhere));
    }

    #[test]
    fn a_token_of_one_channel_is_none_of_the_house() {
        let all = Grants::new(Some(Role::Administrator), []);
        let one = all.within(&Scope { most: Some(Role::Operator), channels: Some(vec![WEIR]) });
        assert!(one.may(Deed::Run, Where::Channel(Some(WEIR))));
        assert!(!one.may(Deed::SetUp, Where::Channel(Some(WEIR))) && !one.may(Deed::Look, Where::House));
        assert_eq!(all.within(&Scope { most: None, channels: Some(Vec::new()) }), Grants::default());
    }

    fn role() -> impl Strategy<Value = Role> {
        proptest::sample::select(Role::all().collect::<Vec<_>>())
    }

    fn grants() -> impl Strategy<Value = Grants> {
        let channels = proptest::collection::vec((0u64..4, role()), 0..4);
        (proptest::option::of(role()), channels).prop_map(|(house, channels)| Grants::new(house, channels))
    }

    fn scope() -> impl Strategy<Value = Scope> {
        let channels = proptest::option::of(proptest::collection::vec(0u64..4, 0..4));
        (proptest::option::of(role()), channels).prop_map(|(most, channels)| Scope { most, channels })
    }

    proptest! {
        /// Nothing is got by a scope, nor by a token that a token asked for.
        #[test]
        fn scopes_only_take_away(grants in grants(), own in scope(), wanted in scope()) {
            let places = (0u64..5).map(|id| Where::Channel(Some(id)));
            let places: Vec<Where> = places.chain([Where::House, Where::Anywhere, Where::Channel(None)]).collect();
            let (within, asked) = (grants.within(&own), grants.within(&own.narrowed(wanted.clone())));
            for place in places {
                for deed in [Deed::Look, Deed::Run, Deed::SetUp, Deed::LetIn] {
                    prop_assert!(grants.may(deed, place) || !within.may(deed, place));
                    prop_assert!(within.may(deed, place) || !asked.may(deed, place));
                    let both = grants.within(&own).within(&wanted);
                    prop_assert_eq!(both.may(deed, place), asked.may(deed, place));
                }
            }
        }
    }
}
