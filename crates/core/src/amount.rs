//! How many of something there are, and how large they are together.

/// How many, and how large together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Amount {
    /// How many.
    pub count: u64,
    /// Bytes.
    pub bytes: u64,
}
