//! What the house does, without the protocols in front of it: between the catalogue, the library, the stores, and whoever asks.
//!
//! * [`engine`] – what all of it shares; [`settings`] – what it is told; [`error`] – why something was not done.
//! * [`landing`] – how bytes become an original, from their [`intake`] on; [`joining`] and [`settling`] – of several uploads, and after a kill.
//! * `evidence` – what is seen of a copy; [`at_home`] – looking at one at home; [`renaming`] – giving it another name; [`filed_names`], [`alike`], [`writing`] – who is at it.
//! * [`deletion`] – into holding, and back.
//! * [`connections`] – the stores as they are used; [`costs`], [`weeks`] – what they ask for, and when they are sent to.
//! * [`keys`], [`kept`], [`key`], [`kit`] – the household's keys: in memory, in the server's file, as the keeper sees them, on paper.
//! * [`stores`], [`people`], [`devices`], [`clocks`], [`offers`], [`clearing`], [`adoptions`], [`filing`], [`library`], [`find`], [`places`], [`choosing`], [`zips`], [`albums`], [`arrangement`], [`links`], [`brought`], [`household`], [`checks`],
//!   [`activity`] – one for each part of what people and devices ask.
//! * [`open`], [`founding`], [`rebuild`], [`from_kit`] – a house that starts, is made, or is brought back.
//! * [`overview`], [`three_two_one`], [`said`] – what the house says of itself; [`live`] – what listeners are told.
//! * [`work`] – background work, and [`wakeups`], which wakes it.
//! * [`towns`] – which town is nearest.
//! * [`secrets`], [`private`] – passwords, tokens, and files that nobody else may read.

pub mod activity;
pub mod adoptions;
pub mod albums;
pub mod alike;
pub mod arrangement;
pub mod at_home;
pub mod brought;
pub mod checks;
pub mod choosing;
pub mod clearing;
pub mod clocks;
pub mod connections;
pub mod costs;
pub mod deletion;
pub mod devices;
pub mod elsewhere;
pub mod engine;
pub mod error;
mod evidence;
pub mod filed_names;
pub mod filing;
pub mod find;
pub mod followed;
pub mod founding;
pub mod from_kit;
pub mod given;
pub mod household;
pub mod intake;
pub mod joining;
mod kept;
pub mod key;
pub mod keys;
pub mod kit;
pub mod landing;
pub mod library;
pub mod link_zip;
pub mod links;
pub mod live;
mod named;
pub mod offers;
pub mod open;
pub mod overview;
pub mod own_folders;
pub mod people;
pub mod places;
pub mod private;
pub mod rebuild;
pub mod renaming;
pub mod said;
pub mod secrets;
pub mod settings;
pub mod settling;
pub mod store_copy;
pub mod stores;
pub mod three_two_one;
pub mod towns;
pub mod wakeups;
pub mod weeks;
pub mod work;
pub mod writing;
pub mod zips;
