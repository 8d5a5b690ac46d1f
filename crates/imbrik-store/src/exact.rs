//! Checked arithmetic, and the error for violated invariants.
//!
//! Values from a card are validated where they are parsed; an invalid one is [`crate::Class::Corrupt`]. Later overflows
//! can only be bugs. A saturated result would hide the bug behind a plausible number, so it becomes an
//! [`invariant_error`].

use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset},
};
use std::{fmt, panic::Location};

/// Reports a violated invariant: panics in debug builds, and returns an error of the class [`crate::Class::Bug`] with
/// the source location otherwise.
#[track_caller]
#[must_use]
pub fn invariant_error(what: impl fmt::Display) -> Error {
    let place = Location::caller();
    debug_assert!(false, "{what}, at {place}");
    Error::bug(format!("{what} (at {}:{})", place.file(), place.line()))
}

/// Sums, differences and products that are right or end at [`invariant_error`].
pub trait Exact: Sized + fmt::Display + Copy {
    /// Both together.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when that does not fit.
    fn plus(self, other: Self) -> Result<Self>;

    /// Subtracts `other`.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when `other` is larger.
    fn minus(self, other: Self) -> Result<Self>;

    /// `count` times this.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when that does not fit.
    fn times(self, count: Self) -> Result<Self>;

    /// Divides by `part`, rounding down.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when `part` is nothing.
    fn over(self, part: Self) -> Result<Self>;

    /// The same number as another type.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when that cannot hold it.
    fn exact_as<T: TryFrom<Self>>(self) -> Result<T>;
}

macro_rules! exact {
    ($($number:ty),*) => {$(
        impl Exact for $number {
            #[track_caller]
            fn plus(self, other: Self) -> Result<Self> {
                match self.checked_add(other) {
                    Some(sum) => Ok(sum),
                    None => Err(invariant_error(format_args!("{self} + {other} does not fit"))),
                }
            }

            #[track_caller]
            fn minus(self, other: Self) -> Result<Self> {
                match self.checked_sub(other) {
                    Some(rest) => Ok(rest),
                    None => Err(invariant_error(format_args!("{self} - {other} is less than nothing"))),
                }
            }

            #[track_caller]
            fn times(self, count: Self) -> Result<Self> {
                match self.checked_mul(count) {
                    Some(product) => Ok(product),
                    None => Err(invariant_error(format_args!("{self} × {count} does not fit"))),
                }
            }

            #[track_caller]
            fn over(self, part: Self) -> Result<Self> {
                match self.checked_div(part) {
                    Some(count) => Ok(count),
                    None => Err(invariant_error(format_args!("{self} in parts of nothing"))),
                }
            }

            #[track_caller]
            fn exact_as<T: TryFrom<Self>>(self) -> Result<T> {
                match T::try_from(self) {
                    Ok(same) => Ok(same),
                    Err(_) => Err(invariant_error(format_args!("{self} does not fit into its place"))),
                }
            }
        }
    )*};
}

exact!(u16, u32, u64, usize);

impl ByteOffset {
    /// The position `len` further on.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when 64 bits cannot hold it.
    #[track_caller]
    pub fn plus(self, len: ByteLen) -> Result<Self> {
        self.get().plus(len.get()).map(Self::new)
    }
}

impl ByteLen {
    /// Both together.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when 64 bits cannot hold it.
    #[track_caller]
    pub fn plus(self, other: Self) -> Result<Self> {
        self.get().plus(other.get()).map(Self::new)
    }

    /// Subtracts `other`.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when `other` is larger.
    #[track_caller]
    pub fn minus(self, other: Self) -> Result<Self> {
        self.get().minus(other.get()).map(Self::new)
    }

    /// `count` times this.
    ///
    /// # Errors
    /// [`crate::Class::Bug`] when 64 bits cannot hold it.
    #[track_caller]
    pub fn times(self, count: u64) -> Result<Self> {
        self.get().times(count).map(Self::new)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn conversions_match_wider_integers(a in any::<u32>(), b in 1u32..70_000) {
            let (wide, other) = (u64::from(a), u64::from(b));
            prop_assert_eq!(wide.plus(other).unwrap(), wide + other);
            prop_assert_eq!(wide.times(other).unwrap(), wide * other);
            prop_assert_eq!(wide.over(other).unwrap(), wide / other);
            prop_assert_eq!(wide.plus(other).unwrap().minus(other).unwrap(), wide);
            prop_assert_eq!(wide.exact_as::<u32>().unwrap(), a);
        }
    }

    /// An overflow panics in debug builds, and is an error in release builds.
    #[test]
    fn overflowing_conversions_return_none() {
        let cases: [fn() -> Result<u64>; 5] = [
            || u64::MAX.plus(1),
            || 3u64.minus(4),
            || u64::MAX.times(2),
            || 1u64.over(0),
            || Ok((1u64 << 40).exact_as::<u32>()?.into()),
        ];
        for case in cases {
            let ended = std::panic::catch_unwind(case);
            assert_eq!(ended.is_err(), cfg!(debug_assertions));
            if let Ok(found) = ended {
                let error = found.unwrap_err();
                assert_eq!(error.class(), crate::Class::Bug);
                assert!(error.to_string().contains("exact.rs:"), "{error}");
            }
        }
    }
}
