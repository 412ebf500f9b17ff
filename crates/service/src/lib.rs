//! The service: what devices send to, what the console asks, and what works in the background.
//!
//! * [`settings`] – configuration, read once and complete.
//! * [`setup`], [`recover`], [`rebuild`], [`mark`] – the commands that are not the service itself.
//! * [`door`] – a machine without a household: where one is made, or brought back.
//! * [`serve`] – start and stop; [`app`] – what everything shares; [`live`] – what listeners are told.
//! * [`keys`] – what the server has of the household's keys.
//! * [`said`] – what anybody may ask, from memory.
//! * [`area`] – which part of the service an address belongs to.
//! * [`caller`], [`security`], [`tls`] – who is asking, and how that is known.
//! * [`names`] – under which names it answers.
//! * [`process`] – what this process may do on its machine, and what it leaves behind.
//! * [`failure`] – every answer that is not what was asked for.
//! * [`landing`] – how bytes become an original; [`tus`] and [`dav`] – the protocols in front of it.
//! * [`api`] – the routes; [`overview`], [`three_two_one`], [`costs`] – the numbers behind the section through the ground and the stores.
//! * [`at_home`] – looking at a copy at home, wherever a re-filing has put it by now.
//! * [`work`] – background work.

pub mod api;
pub mod app;
pub mod area;
pub mod at_home;
pub mod caller;
pub mod costs;
pub mod dav;
pub mod door;
pub mod failure;
pub mod keys;
pub mod landing;
pub mod live;
pub mod mark;
pub mod names;
pub mod overview;
pub mod process;
pub mod rebuild;
pub mod recover;
pub mod said;
pub mod security;
pub mod serve;
pub mod settings;
pub mod setup;
pub mod three_two_one;
pub mod tls;
pub mod tus;
pub mod weeks;
pub mod work;
