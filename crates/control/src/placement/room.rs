//! The memory and cores of all devices, as readers see them.

use vastrelay_fleet::decider::Ledgers;

/// The memory and cores that are held now.
#[derive(Clone, Default)]
pub struct RoomNow {
    /// By whom.
    pub ledgers: Ledgers,
    /// Whether some of it is about to be given back.
    pub frees_soon: bool,
}
