//! Which vector instructions a kernel may use.

use std::fmt;

/// A set of vector instructions that this machine was seen to have.
///
/// A value other than [`Isa::SCALAR`] can only come from [`Isa::detect`] or [`Isa::available`], so holding one proves
/// that the instructions exist here.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Isa(Level);

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Level {
    Scalar,
    #[cfg(target_arch = "x86_64")]
    Avx2,
    #[cfg(target_arch = "x86_64")]
    Avx512,
}

impl Isa {
    /// Plain Rust, on every machine: the reference.
    pub const SCALAR: Isa = Isa(Level::Scalar);

    /// Returns the widest instruction set of this machine.
    pub fn detect() -> Isa {
        *Isa::available().last().unwrap_or(&Isa::SCALAR)
    }

    /// Returns every instruction set of this machine, narrowest first.
    pub fn available() -> Vec<Isa> {
        let mut found = vec![Isa::SCALAR];
        #[cfg(target_arch = "x86_64")]
        {
            if is_x86_feature_detected!("avx2") && is_x86_feature_detected!("fma") {
                found.push(Isa(Level::Avx2));
                if ["avx512f", "avx512bw", "avx512vl", "avx512dq"]
                    .iter()
                    .all(|name| has(name))
                {
                    found.push(Isa(Level::Avx512));
                }
            }
        }
        found
    }

    /// Returns the name people know it by: `scalar`, `avx2`, `avx512`.
    pub fn name(self) -> &'static str {
        match self.0 {
            Level::Scalar => "scalar",
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 => "avx2",
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 => "avx512",
        }
    }

    pub(crate) fn level(self) -> Level {
        self.0
    }
}

#[cfg(target_arch = "x86_64")]
fn has(feature: &str) -> bool {
    match feature {
        "avx512f" => is_x86_feature_detected!("avx512f"),
        "avx512bw" => is_x86_feature_detected!("avx512bw"),
        "avx512vl" => is_x86_feature_detected!("avx512vl"),
        "avx512dq" => is_x86_feature_detected!("avx512dq"),
        _ => false,
    }
}

impl fmt::Debug for Isa {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// Compiles one body for each instruction set and makes a function that picks by [`Isa`].
///
/// The body is plain Rust, inlined into each version, so that the compiler vectorises it with what that version has.
macro_rules! for_each_isa {
    ($(#[$meta:meta])* $vis:vis fn $name:ident($($arg:ident: $ty:ty),* $(,)?) $(-> $out:ty)? $body:block) => {
        $(#[$meta])*
        $vis fn $name(isa: $crate::Isa, $($arg: $ty),*) $(-> $out)? {
            #[inline(always)]
            fn body($($arg: $ty),*) $(-> $out)? $body

            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx2,fma")]
            fn avx2($($arg: $ty),*) $(-> $out)? { body($($arg),*) }

            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,fma")]
            fn avx512($($arg: $ty),*) $(-> $out)? { body($($arg),*) }

            match isa.level() {
                $crate::isa::Level::Scalar => body($($arg),*),
                // SAFETY: the level exists only where these features were detected.
                #[cfg(target_arch = "x86_64")]
                $crate::isa::Level::Avx2 => unsafe { avx2($($arg),*) },
                // SAFETY: as above.
                #[cfg(target_arch = "x86_64")]
                $crate::isa::Level::Avx512 => unsafe { avx512($($arg),*) },
            }
        }
    };
}
pub(crate) use for_each_isa;
