//! What becomes of an original that somebody deletes: its stages, which follows which, and what a step needs that cannot be taken back.
//!
//! ```text
//!            delete               its time is over            its file is gone                 the last copy is removed
//!  living ─────────────▶ held ──────────────────────▶ leaving-home ──────────────▶ in-stores ──────────────────────────▶ gone
//!     ▲  ◀─ bring back ──┘                                 │                          │
//!     └───────────────── fetch back, while a store has it ─┴──────────────────────────┘
//! ```
//!
//! The catalogue keeps what a stage follows from ([`Facts`]), and refuses whatever is no [`Step`]; a test holds its rule against this one.
//! An object in a store may be needed by another original: what is done about each copy is [`removal`]'s.

use chrono::{DateTime, Utc};

use crate::{
    offer::{DELETED_GONE, DELETED_HELD, Known},
    retention::Release,
    state::words,
};

words! {
    /// Where an original stands between its member and oblivion.
    Stage {
        /// Among the others.
        Living = "living",
        /// Deleted, and in holding at home.
        Held = "held",
        /// Its time in holding is over; its file is being removed.
        LeavingHome = "leaving-home",
        /// Not at home any more; stores have it for a while longer.
        InStores = "in-stores",
        /// Nowhere any more. That it was there is remembered, so that a device that still has it does not bring it back by itself.
        Gone = "gone",
    }
}

/// What is known of an original, as far as its deletion goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Facts {
    /// Its member deleted it.
    pub deleted: bool,
    /// It was let go of at home.
    pub released: bool,
    /// It has a name in the library.
    pub named: bool,
    /// A store has a copy that is its own.
    pub in_stores: bool,
}

/// What leads from one stage to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Its member deletes it.
    Delete,
    /// Its member takes it out of holding.
    BringBack,
    /// Its time is over.
    Release(MayLeave),
    /// Its file is not there any more.
    LeftHome {
        /// Whether a store has it.
        in_stores: bool,
    },
    /// Its member has it fetched from a store.
    FetchBack(StoreHasIt),
    /// The last store has removed it.
    LastCopyRemoved,
}

/// An original may leave the home disk: its time is over, and the safety stop lets it, or the keeper has looked at it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MayLeave(());

impl MayLeave {
    /// Asks for it. `until`: when its time in holding is over, if ever.
    pub fn ask(release: Release, until: Option<DateTime<Utc>>, looked_at: bool, now: DateTime<Utc>) -> Option<Self> {
        let is_over = until.is_some_and(|until| until <= now);
        (is_over && (release == Release::All || looked_at)).then_some(MayLeave(()))
    }
}

/// A store has a good copy of an original, and is not just removing it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StoreHasIt(());

impl StoreHasIt {
    /// Asks for it. `again`: its member has the same bytes once more by now, and needs none back.
    pub fn ask(good_and_not_leaving: bool, again: bool) -> Option<Self> {
        (good_and_not_leaving && !again).then_some(StoreHasIt(()))
    }
}

impl Stage {
    /// What follows from what is known.
    pub fn of(facts: Facts) -> Self {
        match facts {
            Facts { deleted: false, .. } => Stage::Living,
            Facts { released: false, .. } => Stage::Held,
            Facts { named: true, .. } => Stage::LeavingHome,
            Facts { in_stores: true, .. } => Stage::InStores,
            _ => Stage::Gone,
        }
    }

    /// Where a step leads; none: it cannot be done from here.
    pub fn after(self, step: Step) -> Option<Self> {
        match (self, step) {
            (Stage::Living, Step::Delete) => Some(Stage::Held),
            (Stage::Held, Step::BringBack) => Some(Stage::Living),
            (Stage::Held, Step::Release(_)) => Some(Stage::LeavingHome),
            (Stage::LeavingHome, Step::LeftHome { in_stores: true }) => Some(Stage::InStores),
            (Stage::LeavingHome, Step::LeftHome { in_stores: false }) => Some(Stage::Gone),
            (Stage::LeavingHome | Stage::InStores, Step::FetchBack(_)) => Some(Stage::Living),
            (Stage::InStores, Step::LastCopyRemoved) => Some(Stage::Gone),
            _ => None,
        }
    }

    /// What a device that offers the same bytes is told of them; none: nothing.
    pub fn told(self) -> Option<&'static str> {
        match self {
            Stage::Living => None,
            Stage::Held => Some(DELETED_HELD),
            Stage::LeavingHome | Stage::InStores | Stage::Gone => Some(DELETED_GONE),
        }
    }

    /// What is known of bytes that are offered. Of one that lives it is to be seen whether it is at home.
    pub fn known(self) -> Known {
        match self {
            Stage::Living => Known::Home,
            Stage::Held => Known::Held,
            Stage::LeavingHome | Stage::InStores | Stage::Gone => Known::Gone,
        }
    }
}

/// A store's copy of an original that has left the home disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Copy {
    /// The store's ledger names the original, as it was said last.
    pub listed: bool,
    /// It is good, as far as anybody knows.
    pub good: bool,
}

/// What is to be done about such a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Removal {
    /// Remove the object, and then the copy is forgotten.
    Object,
    /// Forget the copy: the object is somebody else's as well, or is not there.
    Forget,
    /// Wait: the ledger does not say yet that the original has gone. No ledger ever names what is not there.
    AfterLedger,
    /// Nothing: it is none, or its original is not one that leaves.
    Nothing,
}

/// What is to be done about a copy of an original in this stage. `object`: whether the store has confirmed its bytes; `needed`: whether another
/// original that is not leaving has the same ones.
pub fn removal(stage: Stage, copy: Option<Copy>, object: bool, needed: bool) -> Removal {
    match (stage, copy) {
        (Stage::Living | Stage::Held, _) | (_, None) => Removal::Nothing,
        (_, Some(Copy { good: true, listed: false })) => Removal::AfterLedger,
        (_, Some(_)) if object && !needed => Removal::Object,
        (_, Some(_)) => Removal::Forget,
    }
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use rstest::rstest;

    use super::*;

    fn steps() -> Vec<Step> {
        let mut steps = vec![Step::Delete, Step::BringBack, Step::LastCopyRemoved];
        steps.extend([Step::Release(MayLeave(())), Step::FetchBack(StoreHasIt(()))]);
        steps.extend([true, false].map(|in_stores| Step::LeftHome { in_stores }));
        steps
    }

    #[test]
    fn every_stage_is_reached_and_what_is_gone_stays_gone() {
        let mut reached = vec![Stage::Living];
        while let Some(next) = reached
            .iter()
            .flat_map(|from| steps().into_iter().filter_map(|step| from.after(step)))
            .find(|next| !reached.contains(next))
        {
            reached.push(next);
        }
        reached.sort_unstable();
        assert_eq!(reached, Stage::ALL);
        assert!(steps().into_iter().all(|step| Stage::Gone.after(step).is_none()));
    }

    #[test]
    fn nothing_leaves_the_home_disk_but_from_holding_with_leave() {
        for &from in Stage::ALL {
            for step in steps() {
                let leaves = from.after(step) == Some(Stage::LeavingHome);
                assert_eq!(leaves, from == Stage::Held && matches!(step, Step::Release(_)), "{from} by {step:?}");
            }
        }
    }

    #[rstest]
    #[case::over(Release::All, Some(-1), false, true)]
    #[case::now(Release::All, Some(0), false, true)]
    #[case::not_yet(Release::All, Some(1), true, false)]
    #[case::never(Release::All, None, true, false)]
    #[case::stopped(Release::LookedAt, Some(-1), false, false)]
    #[case::looked_at(Release::LookedAt, Some(-1), true, true)]
    fn who_may_leave(#[case] release: Release, #[case] days: Option<i64>, #[case] looked_at: bool, #[case] may: bool) {
        let now = DateTime::UNIX_EPOCH;
        let until = days.map(|days| now + TimeDelta::days(days));
        assert_eq!(MayLeave::ask(release, until, looked_at, now).is_some(), may);
    }

    #[test]
    fn stages_follow_from_facts_and_every_combination_has_one() {
        let mut seen = Vec::new();
        for n in 0..16u8 {
            let facts = Facts { deleted: n & 1 > 0, released: n & 2 > 0, named: n & 4 > 0, in_stores: n & 8 > 0 };
            let stage = Stage::of(facts);
            // What its member did not delete is among the others, whatever else is the case.
            assert_eq!(stage == Stage::Living, !facts.deleted);
            assert!(stage != Stage::Gone || !facts.named && !facts.in_stores);
            seen.push(stage);
        }
        seen.sort_unstable();
        seen.dedup();
        assert_eq!(seen, Stage::ALL);
    }

    #[test]
    fn an_object_is_removed_only_if_nobody_needs_it_and_no_ledger_names_it() {
        for &stage in Stage::ALL {
            for n in 0..16u8 {
                let (listed, good, object, needed) = (n & 1 > 0, n & 2 > 0, n & 4 > 0, n & 8 > 0);
                let done = removal(stage, Some(Copy { listed, good }), object, needed);
                let leaves = matches!(stage, Stage::LeavingHome | Stage::InStores | Stage::Gone);
                assert_eq!(done == Removal::Object, leaves && object && !needed && (listed || !good), "{stage} {n:04b}");
                assert_eq!(done == Removal::Nothing, !leaves);
                assert_eq!(removal(stage, None, object, needed), Removal::Nothing);
            }
        }
    }

    #[test]
    fn what_devices_are_told_and_what_is_known_agree() {
        for &stage in Stage::ALL {
            let said = match stage.known() {
                Known::Held => Some(DELETED_HELD),
                Known::Gone => Some(DELETED_GONE),
                Known::Home | Known::New => None,
            };
            assert_eq!(stage.told(), said);
        }
    }
}
