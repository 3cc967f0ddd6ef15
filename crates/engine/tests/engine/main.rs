//! The engine on real weights: equal to the reference, and the same in any company.

mod company;
mod reference;
mod support;
