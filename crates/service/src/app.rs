//! What every part of the service shares.

use std::sync::Arc;

use url::Url;
use ypogeion_core::Digest;
use ypogeion_engine::engine::Engine;

use crate::{dav::locks::Locks, security::Limiter};

/// The shared state.
pub struct App {
    /// What the house does.
    pub engine: Arc<Engine>,
    /// Limits on guessing.
    pub limiter: Limiter,
    /// Fingerprint of the certificate.
    pub certificate: Digest,
    /// The address that devices are told.
    pub address: Url,
    /// Locks on files in devices' folders.
    pub locks: Locks,
}
