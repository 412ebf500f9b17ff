//! Background work: rows of the catalogue, taken, done, put back.
//!
//! One loop for each kind ([`run`]: [`previews`], [`groups`], [`refile`], [`adopt`], [`derive`], [`checks`] for three, [`heal`] for two, [`holding`] for three, [`reseal`], [`home`], [`towns`], [`ledger`], and [`sending`] for the
//! other two; [`store`] opens what they send to). A loop sleeps until it is woken by a notification or until something is due; while nothing is due, nothing wakes. Every piece of work may be done twice and
//! may be killed anywhere.

mod adopt;
mod adopt_look;
pub mod checks;
mod derive;
mod ended;
mod films;
mod groups;
mod heal;
pub mod holding;
pub mod home;
mod ledger;
mod previews;
mod refile;
mod reseal;
pub mod run;
mod sending;
mod store;
mod towns;
mod words;
