//! The device's side: what is there, what of it is known, what is wanted, and sending it.
//!
//! * [`client`] speaks to the service, and trusts exactly the certificate that came with the pairing.
//! * [`home`] is the device's own folder: its pairing, its sources, the hashes of files it has seen ([`cache`]).
//! * [`scan`] walks a source, [`survey`] sorts what is in all of them; [`send`] sends one file; [`backup`] is a whole run; [`room`] makes room afterwards.
//!
//! * [`platform`] is the machine: battery, network, clock; [`order`] is what a person says; [`gate`] puts both together and
//!   says whether a run may go on. [`watch`] runs when something changes; [`runlog`] keeps what runs did.
//!
//! Nothing here knows that there is a terminal: a run reports what it does through [`backup::Told`].

pub mod backup;
pub mod cache;
pub mod client;
pub mod gate;
pub mod home;
pub mod order;
pub mod platform;
pub mod room;
pub mod runlog;
pub mod scan;
pub mod send;
pub mod survey;
pub mod watch;
