//! Enums that are words of the language: the variant, its word, and the list of all of them have one definition.

/// Describes what has a word in the language.
#[doc(hidden)]
pub trait HasWord: Copy + 'static {
    /// All of them, in the order of the documentation.
    const ALL: &'static [Self];

    /// The word for it.
    fn word(self) -> &'static str;
}

/// Declares such an enum. Adding a variant here is adding its word; nothing else lists them.
#[doc(hidden)]
#[macro_export]
macro_rules! words {
    ($(#[$doc:meta])* pub enum $name:ident {
        $($(#[$variant_doc:meta])* $variant:ident = $word:literal,)*
    }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum $name {
            $($(#[$variant_doc])* $variant,)*
        }

        impl $name {
            /// All of them, in the order of the documentation.
            pub const ALL: &'static [$name] = &[$($name::$variant),*];

            /// The word for it.
            pub const fn word(self) -> &'static str {
                match self {
                    $($name::$variant => $word,)*
                }
            }

            /// Returns what `word` names.
            pub fn from_word(word: &str) -> Option<$name> {
                Self::ALL.iter().copied().find(|one| one.word() == word)
            }
        }

        impl $crate::words::HasWord for $name {
            const ALL: &'static [$name] = $name::ALL;

            fn word(self) -> &'static str {
                $name::word(self)
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }
    };
}
