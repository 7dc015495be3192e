//! Enums whose every value has one word, under which it is stored, posted and often shown.

/// An enum whose every value has one word.
pub trait Worded: std::fmt::Debug + Copy + PartialEq + 'static {
    /// The word.
    fn word(self) -> &'static str;
}

/// Declares an enum together with its words: each variant stands once, beside its word. Of it come
/// `ALL`, every value in the order it is declared in, `word`, and `from_word`, which finds a value
/// again. A variant without a word does not compile.
///
/// ```
/// matricle_core::worded! {
///     /// What a lamp says.
///     #[derive(Debug, Clone, Copy, PartialEq, Eq)]
///     pub enum Lamp {
///         /// Go.
///         Green = "green",
///         /// Wait.
///         Red = "red",
///     }
/// }
/// assert_eq!(Lamp::ALL, [Lamp::Green, Lamp::Red]);
/// assert_eq!((Lamp::Red.word(), Lamp::from_word("green")), ("red", Some(Lamp::Green)));
/// assert_eq!(Lamp::from_word("Green"), None);
/// ```
#[macro_export]
macro_rules! worded {
    ($(#[$of_all:meta])* $vis:vis enum $name:ident {
        $($(#[$of_one:meta])* $variant:ident = $word:literal),+ $(,)?
    }) => {
        $(#[$of_all])*
        $vis enum $name {
            $($(#[$of_one])* $variant,)+
        }

        impl $name {
            /// Every value, in the order of their declaration.
            pub const ALL: [Self; [$($word),+].len()] = [$(Self::$variant),+];

            /// The one word for it, as it is stored and posted.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)+
                }
            }

            /// Finds a value by its word.
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                Self::ALL.into_iter().find(|value| value.word() == word)
            }
        }

        impl $crate::worded::Worded for $name {
            fn word(self) -> &'static str {
                self.word()
            }
        }
    };
}

/// Declares an enum of which every value can be gone through, in the order of their declaration.
/// `ALL` cannot miss one.
#[macro_export]
macro_rules! every {
    ($(#[$of_all:meta])* $vis:vis enum $name:ident {
        $($(#[$of_one:meta])* $variant:ident),+ $(,)?
    }) => {
        $(#[$of_all])*
        $vis enum $name {
            $($(#[$of_one])* $variant,)+
        }

        impl $name {
            /// Every value, in the order of their declaration.
            pub const ALL: [Self; [$(stringify!($variant)),+].len()] = [$(Self::$variant),+];
        }
    };
}
