//! The engine on real weights: equal to the reference, and the same in any company.

mod company;
mod logprobs_of_prompt;
mod narrow;
mod precision;
mod reference;
mod resume;
mod split;
mod support;
mod workspace;
