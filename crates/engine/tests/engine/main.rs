//! The engine on real weights: equal to the reference, and the same in any company.

mod company;
mod narrow;
mod precision;
mod prompt_scores;
mod reference;
mod resume;
mod split;
mod support;
