//! Filed names that are being given: chosen, and not in the catalogue yet.

use std::{
    collections::HashSet,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use ypogeion_core::filing::FiledPath;

/// All of them, and the right to move what has one. Cheap to clone.
#[derive(Clone, Default)]
pub struct FiledNames {
    chosen: Arc<Mutex<HashSet<String>>>,
    moving: Arc<tokio::sync::Mutex<()>>,
}

impl FiledNames {
    fn lock(&self) -> MutexGuard<'_, HashSet<String>> {
        self.chosen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps a name until the guard is dropped. `None`: somebody else is about to use it.
    pub fn reserve(&self, path: &FiledPath) -> Option<Reserved> {
        let folded = path.folded();
        self.lock().insert(folded.clone()).then(|| Reserved { names: self.clone(), folded })
    }

    /// The right to give an original another name, or to put other bytes in its place: one at a time, and after a new look at where it is.
    pub async fn moving(&self) -> tokio::sync::MutexGuard<'_, ()> {
        self.moving.lock().await
    }
}

/// A filed name that nobody else may choose.
pub struct Reserved {
    names: FiledNames,
    folded: String,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        self.names.lock().remove(&self.folded);
    }
}
