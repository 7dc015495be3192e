//! The colour of a house or an event: one that words can be read in, on paper and in white.

use std::fmt;

/// The paper of every page, `#f6f2e7`.
const PAPER: [u8; 3] = [0xf6, 0xf2, 0xe7];
/// The least contrast of text with what is behind it (WCAG 2.2 §1.4.3, level AA).
const LEAST: f64 = 4.5;

/// A colour (sRGB) that stands out from the paper enough to write in, and to write white on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Accent([u8; 3]);

impl fmt::Display for Accent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [r, g, b] = self.0;
        write!(f, "#{r:02x}{g:02x}{b:02x}")
    }
}

/// Colours with a name (CSS Color 4 §6.1) that words can be read in.
const NAMED: [(&str, [u8; 3]); 24] = [
    ("black", [0, 0, 0]),
    ("dimgray", [105, 105, 105]),
    ("darkslategray", [47, 79, 79]),
    ("maroon", [128, 0, 0]),
    ("darkred", [139, 0, 0]),
    ("firebrick", [178, 34, 34]),
    ("crimson", [220, 20, 60]),
    ("brown", [165, 42, 42]),
    ("saddlebrown", [139, 69, 19]),
    ("sienna", [160, 82, 45]),
    ("darkolivegreen", [85, 107, 47]),
    ("darkgreen", [0, 100, 0]),
    ("green", [0, 128, 0]),
    ("seagreen", [46, 139, 87]),
    ("teal", [0, 128, 128]),
    ("midnightblue", [25, 25, 112]),
    ("navy", [0, 0, 128]),
    ("mediumblue", [0, 0, 205]),
    ("blue", [0, 0, 255]),
    ("darkslateblue", [72, 61, 139]),
    ("indigo", [75, 0, 130]),
    ("purple", [128, 0, 128]),
    ("darkmagenta", [139, 0, 139]),
    ("mediumvioletred", [199, 21, 133]),
];

impl Accent {
    /// The colour with a name that is nearest, for calendars, which know no others (RFC 7986
    /// §5.9).
    ///
    /// # Examples
    /// ```
    /// use matricle_core::words::accent::read;
    /// assert_eq!(read("#1d4f3f").unwrap().named(), "darkslategray");
    /// assert_eq!(read("#800000").unwrap().named(), "maroon");
    /// ```
    #[must_use]
    pub fn named(self) -> &'static str {
        let far = |other: &[u8; 3]| -> u32 {
            self.0.iter().zip(other).map(|(a, b)| u32::from(a.abs_diff(*b)).pow(2)).sum()
        };
        NAMED.iter().min_by_key(|(_, colour)| far(colour)).map_or("black", |(name, _)| name)
    }
}

/// Why a colour is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AccentRefusal {
    /// Not a colour as `#1d4f3f`.
    #[error("not a colour")]
    NotAColour,
    /// Words in it could not be read.
    #[error("a contrast of {tenths} tenths with paper; {nearest} is the nearest that passes")]
    TooFaint {
        /// The contrast with paper, in tenths, cut off.
        tenths: u32,
        /// The same hue, as light as it may be.
        nearest: Accent,
    },
}

/// Reads a colour as it is typed or picked: `#1d4f3f`, `1d4f3f` or `#1af`.
///
/// # Errors
/// It is none, or too light to be read; the nearest that passes is told.
///
/// # Examples
/// ```
/// use matricle_core::words::accent::{AccentRefusal, read};
/// assert_eq!(read("#1D4F3F").unwrap().to_string(), "#1d4f3f");
/// let Err(AccentRefusal::TooFaint { nearest, .. }) = read("#e0a030") else { panic!() };
/// assert_eq!(read(&nearest.to_string()), Ok(nearest));
/// ```
pub fn read(typed: &str) -> Result<Accent, AccentRefusal> {
    let digits = typed.trim().trim_start_matches('#');
    let nibbles: Option<Vec<u8>> =
        digits.chars().map(|c| c.to_digit(16).and_then(|d| u8::try_from(d).ok())).collect();
    let colour = match nibbles.as_deref() {
        Some(&[r, g, b]) => [r * 17, g * 17, b * 17],
        Some(&[a, b, c, d, e, f]) => [a * 16 + b, c * 16 + d, e * 16 + f],
        _ => return Err(AccentRefusal::NotAColour),
    };
    if passes(colour) {
        return Ok(Accent(colour));
    }
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "from 10 to 45")]
    let tenths = (contrast(colour, PAPER) * 10.0) as u32;
    Err(AccentRefusal::TooFaint { tenths, nearest: nearest(colour) })
}

fn passes(colour: [u8; 3]) -> bool {
    contrast(colour, PAPER) >= LEAST
}

/// The contrast of two colours, from 1 to 21 (WCAG 2.2, *contrast ratio*).
#[must_use]
pub fn contrast(one: [u8; 3], other: [u8; 3]) -> f64 {
    let (one, other) = (luminance(one), luminance(other));
    (one.max(other) + 0.05) / (one.min(other) + 0.05)
}

/// Relative luminance, from 0 to 1 (WCAG 2.2).
fn luminance(colour: [u8; 3]) -> f64 {
    let [r, g, b] = colour.map(to_light);
    0.2126 * r + 0.7152 * g + 0.0722 * b
}

/// The light that a channel gives, from 0 to 1 (IEC 61966-2-1).
fn to_light(channel: u8) -> f64 {
    let c = f64::from(channel) / 255.0;
    if c <= 0.040_45 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
}

fn from_light(light: f64) -> u8 {
    let c =
        if light <= 0.003_130_8 { light * 12.92 } else { 1.055 * light.powf(1.0 / 2.4) - 0.055 };
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "from 0 to 255")]
    let channel = (c.clamp(0.0, 1.0) * 255.0) as u8;
    channel
}

/// The same hue with as much light as may be: all channels give less by one factor, so that
/// their shares stay. Cut off and not rounded, it is never a shade too light.
fn nearest(colour: [u8; 3]) -> Accent {
    let most = (luminance(PAPER) + 0.05) / LEAST - 0.05;
    let factor = most / luminance(colour);
    Accent(colour.map(|c| from_light(to_light(c) * factor)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn contrasts_are_those_of_the_standard() {
        assert!((contrast([0; 3], [255; 3]) - 21.0).abs() < 1e-9);
        // The grey that is just not enough on white, and its neighbour that is.
        assert!(contrast([0x77; 3], [255; 3]) < 4.5 && contrast([0x76; 3], [255; 3]) > 4.5);
        for odd in ["", "#12", "green", "#12345g", "#1234567", "é12345"] {
            assert_eq!(read(odd), Err(AccentRefusal::NotAColour), "{odd}");
        }
    }

    proptest! {
        /// Whatever is asked for, what comes of it can be read on paper and under white, and the
        /// one that is offered instead is as light as can be.
        #[test]
        fn what_is_offered_passes_and_is_the_nearest(colour: [u8; 3]) {
            let typed = Accent(colour).to_string();
            match read(&typed) {
                Ok(same) => {
                    prop_assert_eq!(same.to_string(), typed);
                    prop_assert!(contrast(colour, PAPER) >= LEAST);
                    prop_assert!(contrast(colour, [255; 3]) >= LEAST);
                }
                Err(AccentRefusal::TooFaint { tenths, nearest }) => {
                    prop_assert!(tenths < 45);
                    prop_assert_eq!(read(&nearest.to_string()), Ok(nearest));
                    let lighter = nearest.0.map(|c| c.saturating_add(3));
                    prop_assert!(!passes(lighter), "{} could be lighter", nearest);
                }
                Err(AccentRefusal::NotAColour) => prop_assert!(false),
            }
        }
    }
}
