//! Records that name their fields: JSON objects (RFC 8259), one a line, in a text sequence
//! (RFC 7464), or in one array.

pub mod array_marks;
mod flat;
pub mod frames;
mod framing;
pub mod object;
mod text;

pub use self::flat::QuickWay;
pub use self::frames::Frames;
pub use self::framing::{Limits, frame};
pub use self::text::{lone_surrogate, unescape};
