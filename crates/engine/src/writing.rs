//! Who writes to which upload: one at a time.

use std::{
    collections::HashSet,
    sync::{Arc, Mutex, PoisonError},
};

use ypogeion_core::UploadId;

/// Uploads that are being written to. Cheap to clone.
#[derive(Clone, Default)]
pub struct Busy(Arc<Mutex<HashSet<UploadId>>>);

/// The right to write to an upload.
pub struct Writing(Busy, UploadId);

impl Busy {
    /// Takes the right, if nobody has it.
    pub fn take(&self, id: UploadId) -> Option<Writing> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(id).then(|| Writing(self.clone(), id))
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.1);
    }
}
