//! Reading what a file is, and making previews of it.
//!
//! * [`sniff`] tells the kind of a file from its first bytes.
//! * [`facts`] reads when and with what it was taken; [`xmp`], [`words`] and [`maker`] read what programs, exports and makers
//!   wrote, [`embedded`] finds the picture inside a raw file, [`inside`] the film inside a picture.
//! * [`derived`] makes a JPEG from a HEIC.
//! * [`preview`] draws the small and the large preview, with [`colour`]s as they were meant; [`heif`] and [`video`] are the two kinds of file for which it asks
//!   Debian's libraries.
//! * [`worker`] runs all of that in child processes with limits on memory, time and what they can reach ([`confine`]), because what phones and
//!   outsiders send is not to be trusted. The service uses only that door.
//!
//! This crate knows nothing of people or of the database.

pub mod colour;
pub mod confine;
pub mod derived;
pub mod embedded;
pub mod facts;
pub mod gpx;
mod heif;
pub mod inside;
mod iptc;
pub mod maker;
mod pixels;
pub mod preview;
pub mod sniff;
pub mod video;
pub mod words;
pub mod worker;
pub mod xmp;
