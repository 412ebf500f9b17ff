//! The service: HTTP in front of the engine, and the commands of the server's binary.
//!
//! * [`settings`] – configuration, read once and complete. [`database`] – the catalogue, opened by whoever may.
//! * [`setup`], [`recover`], [`rebuild`], [`mark`] – the commands that are not the service itself.
//! * [`door`] – a machine without a household: where one is made, or brought back; [`door_server`] shows it.
//! * [`serve`] – start and stop; `listening` – sockets; `responses` – what every answer has; [`app`] – what everything shares.
//! * [`area`] – which part of the service an address belongs to.
//! * [`guard`], [`caller`], [`security`], [`tls`] – who is asking, and how that is known.
//! * [`names`] – under which names it answers.
//! * [`process`] – what this process may do on its machine, and what it leaves behind.
//! * [`failure`] – every answer that is not what was asked for.
//! * [`api`] – the routes; [`tus`] and [`dav`] – the protocols in which originals come.

pub mod api;
pub mod app;
pub mod area;
pub mod caller;
pub mod database;
pub mod dav;
mod digest_header;
mod disposition;
pub mod door;
pub mod door_server;
pub mod failure;
pub mod guard;
mod listening;
pub mod mark;
pub mod names;
pub mod process;
pub mod rebuild;
pub mod recover;
mod responses;
pub mod security;
pub mod serve;
pub mod settings;
pub mod setup;
pub mod tls;
pub mod tus;
