//! Which vector instructions a kernel may use.

#[cfg(target_arch = "x86_64")]
use crate::vector::{Avx2, Avx512, Avx512Vnni};
use crate::vector::{Portable, TileShape, Vector};
use std::fmt;

/// A set of vector instructions that this machine was seen to have.
///
/// A value other than [`Isa::PORTABLE`] can only come from [`Isa::detect`], [`Isa::available`] or [`Isa::of`], so holding one
/// proves that the instructions exist here.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Isa(Level);

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Level {
    Portable,
    #[cfg(target_arch = "x86_64")]
    Avx2,
    #[cfg(target_arch = "x86_64")]
    Avx512,
    /// As AVX-512, with one instruction for four products of bytes.
    #[cfg(target_arch = "x86_64")]
    Avx512Vnni,
}

impl Isa {
    /// Plain Rust, on every machine: the reference.
    pub const PORTABLE: Isa = Isa(Level::Portable);

    /// Returns the best instruction set of this machine.
    pub fn detect() -> Isa {
        *Isa::available().last().unwrap_or(&Isa::PORTABLE)
    }

    /// Returns every instruction set of this machine, the best last.
    pub fn available() -> Vec<Isa> {
        let mut found = vec![Isa::PORTABLE];
        #[cfg(target_arch = "x86_64")]
        {
            let steps = [
                (
                    Level::Avx2,
                    is_x86_feature_detected!("avx2")
                        && is_x86_feature_detected!("fma")
                        && is_x86_feature_detected!("f16c"),
                ),
                (Level::Avx512, has_avx512()),
                (Level::Avx512Vnni, is_x86_feature_detected!("avx512vnni")),
            ];
            found.extend(steps.iter().take_while(|(_, here)| *here).map(|(level, _)| Isa(*level)));
        }
        found
    }

    /// Returns the instruction set of a name.
    ///
    /// # Errors
    /// When this machine has none of that name, with the names of those it has.
    pub fn of(name: &str) -> Result<Isa, String> {
        let available = Isa::available();
        available.iter().find(|isa| isa.name() == name).copied().ok_or_else(|| {
            let names: Vec<&str> = available.iter().map(|isa| isa.name()).collect();
            format!("this machine has no `{name}` kernels; use {}", names.join(", "))
        })
    }

    /// Returns its name: `portable`, `avx2`, `avx512`, `avx512-vnni`.
    pub fn name(self) -> &'static str {
        match self.0 {
            Level::Portable => "portable",
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 => "avx2",
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 => "avx512",
            #[cfg(target_arch = "x86_64")]
            Level::Avx512Vnni => "avx512-vnni",
        }
    }

    /// Returns the largest tile of floats.
    pub(crate) fn float_tile(self) -> TileShape {
        match self.0 {
            Level::Portable => Portable::FLOAT_TILE,
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 => Avx2::FLOAT_TILE,
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 => Avx512::FLOAT_TILE,
            #[cfg(target_arch = "x86_64")]
            Level::Avx512Vnni => Avx512Vnni::FLOAT_TILE,
        }
    }

    /// Returns the largest tile of whole numbers.
    pub(crate) fn whole_tile(self) -> TileShape {
        match self.0 {
            Level::Portable => Portable::WHOLE_TILE,
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 => Avx2::WHOLE_TILE,
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 => Avx512::WHOLE_TILE,
            #[cfg(target_arch = "x86_64")]
            Level::Avx512Vnni => Avx512Vnni::WHOLE_TILE,
        }
    }

    pub(crate) fn level(self) -> Level {
        self.0
    }
}

#[cfg(target_arch = "x86_64")]
fn has_avx512() -> bool {
    is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
        && is_x86_feature_detected!("avx512vl")
        && is_x86_feature_detected!("avx512dq")
}

impl fmt::Debug for Isa {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// Compiles one body for each instruction set and makes a function that picks by [`Isa`].
///
/// The body is plain Rust, inlined into each version, so that the compiler vectorises it with what that version has.
/// With `<V>` after the name the body also has a type `V` for the set's [`Vector`](crate::vector::Vector).
macro_rules! for_each_isa {
    ($(#[$meta:meta])* $vis:vis fn $name:ident($($arg:ident: $ty:ty),* $(,)?) $(-> $out:ty)? $body:block) => {
        $crate::isa::for_each_isa! { $(#[$meta])* $vis fn $name<V>($($arg: $ty),*) $(-> $out)? $body }
    };
    ($(#[$meta:meta])* $vis:vis fn $name:ident<$v:ident>($($arg:ident: $ty:ty),* $(,)?) $(-> $out:ty)? $body:block) => {
        $(#[$meta])*
        $vis fn $name(isa: $crate::Isa, $($arg: $ty),*) $(-> $out)? {
            #[inline(always)]
            fn body<$v: $crate::vector::Vector>($($arg: $ty),*) $(-> $out)? $body

            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx2,fma,f16c")]
            fn avx2($($arg: $ty),*) $(-> $out)? { body::<$crate::vector::Avx2>($($arg),*) }

            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,avx2,fma,f16c")]
            fn avx512($($arg: $ty),*) $(-> $out)? { body::<$crate::vector::Avx512>($($arg),*) }

            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,avx512vnni,avx2,fma,f16c")]
            fn vnni($($arg: $ty),*) $(-> $out)? { body::<$crate::vector::Avx512Vnni>($($arg),*) }

            match isa.level() {
                $crate::isa::Level::Portable => body::<$crate::vector::Portable>($($arg),*),
                // SAFETY: the level exists only where these features were detected.
                #[cfg(target_arch = "x86_64")]
                $crate::isa::Level::Avx2 => unsafe { avx2($($arg),*) },
                // SAFETY: as above.
                #[cfg(target_arch = "x86_64")]
                $crate::isa::Level::Avx512 => unsafe { avx512($($arg),*) },
                // SAFETY: as above.
                #[cfg(target_arch = "x86_64")]
                $crate::isa::Level::Avx512Vnni => unsafe { vnni($($arg),*) },
            }
        }
    };
}
pub(crate) use for_each_isa;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_is_found_by_its_name_only_where_it_is() {
        for isa in Isa::available() {
            assert_eq!(Isa::of(isa.name()), Ok(isa));
        }
        let error = Isa::of("abacus").unwrap_err();
        assert!(error.contains("`abacus`") && error.contains("portable"), "{error}");
    }
}
