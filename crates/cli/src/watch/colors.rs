//! The colours of the picture.

use ratatui::style::Color;

pub const SEA: Color = Color::Rgb(46, 120, 150);
pub const RED: Color = Color::Rgb(190, 60, 45);
pub const LAMP: Color = Color::Rgb(200, 140, 20);
