//! The same picture coming twice at once, from two devices of a member or out of two folders of an old disk: the second waits for the
//! first, and then finds it here. Otherwise both would be filed, and the one that is kept might be called "(2)" beside nothing.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use ypogeion_core::{Digest, PersonId};

type Picture = (PersonId, Digest);
type Pictures = HashMap<Picture, Arc<tokio::sync::Mutex<()>>>;

/// The pictures that are landing. Cheap to clone.
#[derive(Clone, Default)]
pub struct Landings(Arc<Mutex<Pictures>>);

impl Landings {
    fn lock(&self) -> MutexGuard<'_, Pictures> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many pictures are landing, or wait for their turn.
    pub fn under_way(&self) -> usize {
        self.lock().len()
    }

    /// The right to land these bytes for their member, until the guard is dropped.
    pub async fn alone(&self, person: PersonId, digest: Digest) -> Alone {
        let picture = (person, digest);
        let turn = Arc::clone(self.lock().entry(picture).or_default());
        // Made before it waits: whoever gives up waiting leaves nothing behind.
        let mut alone = Alone { landings: self.clone(), picture, turn: Some(Arc::clone(&turn)), held: None };
        alone.held = Some(turn.lock_owned().await);
        alone
    }
}

/// See [`Landings::alone`].
pub struct Alone {
    landings: Landings,
    picture: Picture,
    turn: Option<Arc<tokio::sync::Mutex<()>>>,
    held: Option<tokio::sync::OwnedMutexGuard<()>>,
}

impl Drop for Alone {
    fn drop(&mut self) {
        self.held = None;
        let mut landings = self.landings.lock();
        // Counted under the lock under which they are made: with the map's own alone, nobody holds it and nobody waits.
        self.turn = None;
        if landings.get(&self.picture).is_some_and(|turn| Arc::strong_count(turn) == 1) {
            landings.remove(&self.picture);
        }
    }
}
