//! Where things stand: the same states from the database to the browser, each with the one word that it has everywhere, and which follows
//! which.

/// An enumeration whose cases each have one word: in the database, in the API, in the console.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$case_about:meta])* $case:ident = $word:tt,)+ }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        pub enum $name {
            $($(#[$case_about])* #[serde(rename = $word)] $case,)+
        }

        impl $name {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$case),+];

            /// Its word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$case => $word),+ }
            }

            /// The one with this word.
            pub fn from_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$case),)+ _ => None }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(self.word())
            }
        }
    };
}
pub(crate) use words;

words! {
    /// How it stands with a folder outside the library in which originals were left.
    LeftFolderState {
        /// It is there, with something in it.
        There = "there",
        /// It is empty or not there: of what was left in it nobody knows anything.
        OutOfReach = "out-of-reach",
        /// The keeper said that it does not come back: what was left in it is missing.
        GivenUp = "given-up",
    }
}

words! {
    /// Where an adoption stands.
    AdoptionState {
        /// It looks through the tree.
        Looking = "looking",
        /// Everything was found; somebody has to say that it may be taken.
        Planned = "planned",
        /// What waits is taken.
        Running = "running",
        /// Somebody has to let it go on, or something has to be there again.
        Paused = "paused",
        /// Everything was taken.
        Done = "done",
        /// Nothing more is taken.
        Stopped = "stopped",
    }
}

words! {
    /// What may be ordered of an adoption.
    AdoptionOrder {
        /// Take what the plan says.
        Begin = "begin",
        /// Take no more for now.
        Pause = "pause",
        /// Go on.
        Resume = "resume",
        /// Take no more at all; what was taken stays.
        Stop = "stop",
        /// Take once more what failed.
        TryAgain = "try-again",
    }
}

impl AdoptionState {
    /// What an order makes of it. `begun`: whether anything was ever taken. None: it cannot be done now.
    pub fn after(self, order: AdoptionOrder, begun: bool) -> Option<Self> {
        use AdoptionOrder::*;
        match (order, self) {
            (Begin, Self::Planned) => Some(Self::Running),
            (Pause, Self::Running) => Some(Self::Paused),
            // One that stood still while it looked goes on looking.
            (Resume, Self::Paused) => Some(if begun { Self::Running } else { Self::Looking }),
            (Stop, Self::Looking | Self::Planned | Self::Running | Self::Paused) => Some(Self::Stopped),
            (TryAgain, Self::Done | Self::Paused | Self::Stopped) if begun => Some(Self::Running),
            _ => None,
        }
    }

    /// Whether it has ended.
    pub fn is_over(self) -> bool {
        matches!(self, Self::Done | Self::Stopped)
    }
}

words! {
    /// Where a filing of the library by another plan stands.
    RefilingState {
        /// Files are moved.
        Running = "running",
        /// Somebody has to let it go on.
        Paused = "paused",
        /// Everything is where the plan wants it.
        Done = "done",
        /// What was not moved stays where it is.
        Stopped = "stopped",
    }
}

impl RefilingState {
    /// Whether it has ended.
    pub fn is_over(self) -> bool {
        matches!(self, Self::Done | Self::Stopped)
    }
}

words! {
    /// Where one attempt of a device to send what is new stands.
    RunState {
        /// It goes on.
        Running = "running",
        /// Everything it found is here.
        Complete = "complete",
        /// It came to its end, and some of what it found is not here.
        Partly = "partly",
        /// It was ended before it was done, and says why.
        Halted = "halted",
        /// Nothing was heard of it for too long.
        BrokenOff = "broken-off",
    }
}

impl RunState {
    /// Judges. `silent`: whether it was not heard of for too long.
    pub fn of(ended: bool, halted: bool, failed: u64, silent: bool) -> Self {
        match (ended, halted) {
            (true, true) => Self::Halted,
            (true, false) if failed == 0 => Self::Complete,
            (true, false) => Self::Partly,
            (false, _) if silent => Self::BrokenOff,
            (false, _) => Self::Running,
        }
    }

    /// Whether it found nothing new: everything was here, and it sent nothing. Runs of which that is so say the same.
    pub fn found_nothing(self, sent: u64) -> bool {
        self == Self::Complete && sent == 0
    }
}

words! {
    /// Where sending to a store stands.
    StoreState {
        /// It refused something, and gets nothing more until somebody has looked.
        Stopped = "stopped",
        /// Its keeper has paused it.
        Paused = "paused",
        /// It is a disk that is not connected.
        Away = "away",
        /// It fails, and is tried again.
        Failing = "failing",
        /// Something waits for the hours in which copies may go there.
        Resting = "resting",
        /// Copies go there.
        Sending = "sending",
        /// All copies are there, and its list of contents does not say so yet: without that, they cannot be found once this house is gone.
        Listing = "listing",
        /// Everything is there.
        Idle = "idle",
    }
}

/// What the state of a store depends on.
#[derive(Clone, Copy, Debug, Default)]
pub struct StoreFacts {
    /// It was stopped.
    pub stopped: bool,
    /// It was paused.
    pub paused: bool,
    /// It failed when it was tried last.
    pub failing: bool,
    /// It is a disk.
    pub disk: bool,
    /// Copies have still to go there.
    pub to_go: bool,
    /// Its list of contents has still to say something.
    pub to_list: bool,
    /// Its hours let nothing go there now.
    pub resting: bool,
}

impl StoreState {
    /// Judges: the first that is so, in the order in which somebody has to know it.
    pub fn of(facts: StoreFacts) -> Self {
        match facts {
            StoreFacts { stopped: true, .. } => Self::Stopped,
            StoreFacts { paused: true, .. } => Self::Paused,
            StoreFacts { failing: true, disk: true, .. } => Self::Away,
            StoreFacts { failing: true, .. } => Self::Failing,
            StoreFacts { resting: true, to_go: true, .. } | StoreFacts { resting: true, to_list: true, .. } => Self::Resting,
            StoreFacts { to_go: true, .. } => Self::Sending,
            StoreFacts { to_list: true, .. } => Self::Listing,
            _ => Self::Idle,
        }
    }
}

words! {
    /// How much a printed recovery kit is worth today.
    KitWorth {
        /// There is no store that it would open.
        Needless = "needless",
        /// Stores, and no kit: the house takes everything with it.
        Missing = "missing",
        /// Keys or stores have changed since it was printed.
        Outdated = "outdated",
        /// It is complete; nobody has shown that it was kept.
        Unproven = "unproven",
        /// It is complete, and a part of it was typed back.
        Proven = "proven",
    }
}

impl KitWorth {
    /// Judges. `stores`: whether there are any. `shown`: whether the kit that was shown last says what it would say now, and whether a
    /// part of it was typed back.
    pub fn of(stores: bool, shown: Option<(bool, bool)>) -> Self {
        match (stores, shown) {
            (false, None) => Self::Needless,
            (true, None) => Self::Missing,
            (_, Some((false, _))) => Self::Outdated,
            (_, Some((true, false))) => Self::Unproven,
            (_, Some((true, true))) => Self::Proven,
        }
    }
}

words! {
    /// The one state for the whole house, the worst true one.
    HouseState {
        /// Nothing to report.
        Well = "well",
        /// Something is under way and needs nobody.
        Busy = "busy",
        /// No household has been set up yet.
        Setup = "setup",
        /// Somebody should look, today or tomorrow.
        Look = "look",
        /// Something is wrong now.
        Trouble = "trouble",
    }
}

words! {
    /// How safe an original is. Safer is greater.
    Layer {
        /// On a device only, or nowhere good that we know of.
        Device = "device",
        /// On the home disk, hash checked.
        Home = "home",
        /// Confirmed by a store.
        Offsite = "offsite",
        /// Read back from a store, opened and hash checked lately enough.
        Proven = "proven",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_state_has_one_word_and_comes_back_from_it() {
        fn all<T: Copy + PartialEq + std::fmt::Debug + serde::Serialize>(
            all: &[T],
            word: fn(T) -> &'static str,
            from: fn(&str) -> Option<T>,
        ) {
            for state in all {
                assert_eq!(from(word(*state)), Some(*state));
                assert_eq!(serde_json::to_value(state).unwrap(), word(*state));
                assert_eq!(all.iter().filter(|s| word(**s) == word(*state)).count(), 1);
            }
            assert_eq!(from("nonsense"), None);
        }
        all(AdoptionState::ALL, AdoptionState::word, AdoptionState::from_word);
        all(AdoptionOrder::ALL, AdoptionOrder::word, AdoptionOrder::from_word);
        all(RefilingState::ALL, RefilingState::word, RefilingState::from_word);
        all(RunState::ALL, RunState::word, RunState::from_word);
        all(StoreState::ALL, StoreState::word, StoreState::from_word);
        all(KitWorth::ALL, KitWorth::word, KitWorth::from_word);
        all(HouseState::ALL, HouseState::word, HouseState::from_word);
        all(Layer::ALL, Layer::word, Layer::from_word);
    }

    #[test]
    fn a_run_that_left_something_behind_found_something() {
        assert!(RunState::of(true, false, 0, false).found_nothing(0));
        for (ended, halted, failed, silent, sent) in [
            (true, false, 0, false, 1),
            (true, false, 1, false, 0),
            (true, true, 0, false, 0),
            (false, false, 0, false, 0),
            (false, false, 0, true, 0),
        ] {
            assert!(!RunState::of(ended, halted, failed, silent).found_nothing(sent));
        }
    }

    #[test]
    fn an_adoption_that_is_over_goes_on_only_if_something_failed_in_it() {
        for state in AdoptionState::ALL {
            for order in AdoptionOrder::ALL {
                for begun in [false, true] {
                    let after = state.after(*order, begun);
                    // Nothing becomes what it is, and nothing is done by an order that does not say so.
                    assert_ne!(after, Some(*state), "{state} {order}");
                    assert_ne!(after, Some(AdoptionState::Done), "only its work ends it");
                    if state.is_over() {
                        assert!(after.is_none() || (*order == AdoptionOrder::TryAgain && begun), "{state} {order}");
                    }
                    if !begun {
                        assert!(after != Some(AdoptionState::Running) || *order == AdoptionOrder::Begin, "{state} {order}");
                    }
                }
            }
            assert_eq!(state.after(AdoptionOrder::Stop, true).is_none(), state.is_over());
        }
    }

    #[test]
    fn a_store_is_idle_only_if_nothing_is_wrong_and_nothing_is_left_to_do() {
        for case in 0..128u32 {
            let bit = |n: u32| case >> n & 1 == 1;
            let facts = StoreFacts {
                stopped: bit(0),
                paused: bit(1),
                failing: bit(2),
                disk: bit(3),
                to_go: bit(4),
                to_list: bit(5),
                resting: bit(6),
            };
            let idle = !(facts.stopped || facts.paused || facts.failing || facts.to_go || facts.to_list);
            assert_eq!(StoreState::of(facts) == StoreState::Idle, idle, "{facts:?}");
            assert!(!facts.stopped || StoreState::of(facts) == StoreState::Stopped, "{facts:?}");
            let sends = StoreState::of(facts) == StoreState::Sending;
            assert!(!sends || (facts.to_go && !facts.resting && !facts.failing && !facts.paused), "{facts:?}");
        }
    }

    #[test]
    fn a_kit_is_worth_what_it_would_bring_back() {
        assert_eq!(KitWorth::of(false, None), KitWorth::Needless);
        assert_eq!(KitWorth::of(true, None), KitWorth::Missing);
        // Typed back or not: it lacks what came since.
        assert_eq!(KitWorth::of(true, Some((false, true))), KitWorth::Outdated);
        assert_eq!(KitWorth::of(true, Some((true, false))), KitWorth::Unproven);
        assert_eq!(KitWorth::of(false, Some((true, true))), KitWorth::Proven);
    }
}
