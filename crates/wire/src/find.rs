//! What somebody looks for: how a line that they typed was understood.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A part of the line that must be so of a picture.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindPart {
    /// As people say it: `June 2024 to August 2024`, `not: videos`.
    pub told: String,
    /// The line without this part.
    pub rest: String,
    /// Nothing in the library is like that, whatever else is asked for. Looked at only if nothing was found.
    pub nothing: bool,
}

/// A part of the line that was not understood, and that is not looked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NotUnderstood {
    /// As it was typed.
    pub typed: String,
    /// The reason, to follow it in a sentence.
    pub why: String,
}

/// What the line may become.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindSuggestion {
    /// The whole line.
    pub line: String,
    /// What is new in it.
    pub added: String,
    /// Pictures that it finds; no more than [`Found::most`] are counted.
    pub count: u64,
}

/// How a line was understood, and how much it finds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Found {
    /// What must be so of a picture, all of it.
    pub parts: Vec<FindPart>,
    /// What was not understood.
    pub unknown: Vec<NotUnderstood>,
    /// Pictures that are found; no more than `most` are counted.
    pub count: u64,
    /// As far as it was counted: if there are so many, there may be more.
    pub most: u64,
    /// What the line may become, if that was asked for.
    pub suggestions: Vec<FindSuggestion>,
}
