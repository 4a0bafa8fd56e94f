//! The closed lists of words that a spec's keys have, and the few other values that both
//! the spec and the reader of files speak of.

mod export;
mod given;
mod max_rejects;
mod records;
mod source;
mod target;
mod values;

pub use export::*;
pub use given::Given;
pub use max_rejects::Tolerance;
pub use records::*;
pub use source::*;
pub use target::*;
pub use values::*;

/// A closed list of words that a key may have.
pub trait Word: Sized + Copy + 'static {
    /// Each word with what it means.
    const WORDS: &'static [(&'static str, Self)];

    /// The word for this meaning.
    fn word(self) -> &'static str
    where
        Self: PartialEq,
    {
        Self::WORDS
            .iter()
            .find(|(_, meaning)| *meaning == self)
            .map_or("", |(word, _)| word)
    }
}

/// Declares an enumeration together with the words that a spec uses for it.
macro_rules! words {
    ($(#[$of_type:meta])* $name:ident { $($(#[$each:meta])* $variant:ident = $word:literal),+ $(,)? }) => {
        $(#[$of_type])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum $name { $($(#[$each])* $variant),+ }

        impl Default for $name {
            /// The first of the words.
            fn default() -> Self {
                [$($name::$variant),+][0]
            }
        }

        impl $crate::words::Word for $name {
            const WORDS: &'static [(&'static str, Self)] = &[$(($word, $name::$variant)),+];
        }
    };
}
pub(crate) use words;
