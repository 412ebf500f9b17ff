//! The device's side: what is there, what of it is known, what is wanted, and sending it.
//!
//! * [`client`] speaks to the service, and trusts exactly the certificate that came with the pairing.
//! * [`home`] is the device's own folder: its pairing, its sources, the hashes of files it has seen ([`cache`]).
//! * [`scan`] walks the sources; [`send`] sends one file; [`backup`] is a whole run; [`room`] makes room afterwards.
//!
//! Nothing here knows that there is a terminal: a run reports what it does through [`backup::Told`].

pub mod backup;
pub mod cache;
pub mod client;
pub mod home;
pub mod room;
pub mod scan;
pub mod send;
