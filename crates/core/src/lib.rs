//! The rules of Ypogeion, as pure functions and types.
//!
//! Nothing here reads a disk, a clock, a database or a socket: whatever a rule needs is handed in, so every rule can be
//! tested by itself and means the same in the service, in the client and in a dry run.
//!
//! The modules follow a picture on its way down:
//!
//! * [`digest`], [`id`], [`name`], [`kind`] – what an original is and what it is called.
//! * [`source`], [`condition`] – what of a device is backed up, and when it may send.
//! * [`offer`] – what a device has, and what of it the server wants.
//! * [`capture`], [`shot`], [`filing`] – when it was taken, what belongs to it, and where it is filed.
//! * [`find`] – what somebody means who looks for pictures.
//! * [`spot`], [`town`], [`track`] – where it was taken, how people call that, and where somebody was then.
//! * [`turn`] – which side of it is up.
//! * [`album`] – what somebody gathers, and who may do what with it; [`arrangement`] – in which order, with which words between.
//! * [`link`] – what somebody outside sees of it.
//! * [`zip`] – how many pictures are handed over as one file.
//! * [`proportion`] – how wide a picture is for its height, for a page that is laid out before its pictures come.
//! * [`adopt`] – what of an old disk or an archive is taken over.
//! * [`place`] – is this a good place for a library?
//! * [`room`] – quota and reserve: is there room for it?
//! * [`clearance`] – may a device remove its copy, and which ones would it like to?
//! * [`layers`] – observations, and how deep an original has sunk because of them.
//! * [`audit`], [`heal`] – how copies are read again, what a sample says of all, and from where a bad copy is made good.
//! * [`copies`], [`cost`] – three copies in two kinds of place, one away from home; and what they cost.
//! * [`window`], [`concurrency`] – when, how fast, and how many at once copies may leave the house.
//! * [`deletion`], [`retention`] – what becomes of what somebody deletes, and when it goes.
//! * [`headline`] – the state of the house in one sentence.
//! * [`checksum`] – what a store is asked to verify, and by what an object's bytes are told again.
//! * [`object`], [`ledger`], [`kit`] – what a store holds, and how a household opens it again.
//! * [`retry`] – how long to wait after a fault.
//! * [`access`] – who may do what.
//! * [`words`] – numbers, sizes and spans of time as people say them.

pub mod access;
pub mod adopt;
pub mod album;
pub mod amount;
pub mod arrangement;
pub mod audit;
pub mod caption;
pub mod capture;
pub mod checksum;
pub mod clearance;
pub mod concurrency;
pub mod condition;
pub mod copies;
pub mod cost;
pub mod deletion;
pub mod digest;
pub mod elsewhere;
pub mod filing;
pub mod find;
pub mod fold;
pub mod headline;
pub mod heal;
pub mod id;
pub mod kind;
pub mod kit;
pub mod layers;
pub mod ledger;
pub mod link;
pub mod name;
pub mod network;
pub mod object;
pub mod offer;
pub mod place;
pub mod proportion;
pub mod retention;
pub mod retry;
pub mod room;
pub mod shot;
pub mod source;
pub mod spot;
pub mod state;
pub mod town;
pub mod track;
pub mod turn;
pub mod window;
pub mod words;
pub mod zip;

pub use digest::{Digest, Hasher};
pub use id::{AlbumId, DeviceId, LinkId, OriginalId, PersonId, RunId, StoreId, UploadId};
pub use name::OriginalName;
