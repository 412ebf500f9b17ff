//! What of the engine can be tried without a house. In a program of its own, so that the engine is compiled once; what it does in a house is in
//! the rehearsals.

mod alike;
mod joining;
mod live;
mod secrets;
mod sentences;
