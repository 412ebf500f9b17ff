//! Identifiers that do not mix: a device's id cannot be passed where a person's is wanted.

use std::{fmt, str::FromStr};

use serde::{Deserialize, Serialize};
use uuid::Uuid;

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),+ $(,)?) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(transparent)]
        pub struct $name(pub Uuid);

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!(stringify!($name), "({})"), self.0)
            }
        }
        impl FromStr for $name {
            type Err = uuid::Error;
            fn from_str(text: &str) -> Result<Self, uuid::Error> {
                text.parse().map($name)
            }
        }
        impl From<Uuid> for $name {
            fn from(id: Uuid) -> Self {
                $name(id)
            }
        }
    )+};
}

ids! {
    /// A keeper, member or guest.
    PersonId,
    /// A paired phone, tablet or computer.
    DeviceId,
    /// One received file of one member.
    OriginalId,
    /// A place away from home that holds a copy.
    StoreId,
    /// One upload, from its creation until it has landed, was ended or expired.
    UploadId,
    /// One backup pass of one device.
    RunId,
    /// Pictures that somebody gathered.
    AlbumId,
    /// What opens some of them to people outside.
    LinkId,
}
