//! How many of something there are, and how large they are together.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How many, and how large together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Amount {
    /// Originals.
    pub count: u64,
    /// Bytes.
    pub bytes: u64,
}

impl From<ypogeion_core::amount::Amount> for Amount {
    fn from(a: ypogeion_core::amount::Amount) -> Self {
        Amount { count: a.count, bytes: a.bytes }
    }
}
