//! Pictures that were uploaded: checked, turned upright, made smaller, written anew.

use std::io::Cursor;

use image::codecs::jpeg::JpegEncoder;
use image::{DynamicImage, ImageDecoder, ImageFormat, ImageReader, Limits};
use matricle_core::forms::form::Fault;

/// Largest upload, in bytes.
pub const MOST_BYTES: usize = 12 * 1024 * 1024;
/// Most pixels: what telephones take. Decoded, these are 96 MB at four bytes each.
pub const MOST_PIXELS: u64 = 24_000_000;

/// Why a picture was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PictureError {
    /// Not a JPEG, PNG or WebP picture, or a broken one.
    #[error("not a picture that can be read")]
    Unreadable,
    /// More bytes or more pixels than are sensible.
    #[error("too large")]
    TooLarge,
}

impl From<PictureError> for Fault {
    fn from(error: PictureError) -> Self {
        match error {
            PictureError::Unreadable => Self::NotAPicture,
            PictureError::TooLarge => Self::TooLarge,
        }
    }
}

/// A picture as it is kept: JPEG, without anything the camera wrote about it.
#[derive(Debug, Clone)]
pub struct Kept {
    /// Pixels across the large one.
    pub width: u32,
    /// Pixels down the large one.
    pub height: u32,
    /// For screens: at most 1280 across.
    pub large: Vec<u8>,
    /// For phones and lists: at most 480 across.
    pub small: Vec<u8>,
}

/// Reads an uploaded picture and writes it anew in two sizes.
///
/// # Errors
/// It is not a picture, or too large.
pub fn keep(bytes: &[u8]) -> Result<Kept, PictureError> {
    // The whole is given back before anything else is made of it.
    let large = within(read(bytes)?, 1280, 960);
    Ok(Kept {
        width: large.width(),
        height: large.height(),
        large: jpeg(&large)?,
        small: jpeg(&within(large, 480, 480))?,
    })
}

/// A picture written anew at most 2,400 pixels across: what is seen, and nothing that was written
/// beside it.
///
/// # Errors
/// It is not a picture, or too large.
pub fn bare(bytes: &[u8]) -> Result<Vec<u8>, PictureError> {
    jpeg(&within(read(bytes)?, 2400, 2400))
}

/// Reads an uploaded mark and writes it anew: PNG, see-through where it was, at most 256 pixels
/// across and down.
///
/// # Errors
/// It is not a picture, or too large.
pub fn mark(bytes: &[u8]) -> Result<Vec<u8>, PictureError> {
    let mark = DynamicImage::ImageRgba8(within(read(bytes)?, 256, 256).to_rgba8());
    let mut png = Cursor::new(Vec::new());
    mark.write_to(&mut png, ImageFormat::Png).map_err(|_| PictureError::Unreadable)?;
    Ok(png.into_inner())
}

/// A picture that was uploaded, upright.
fn read(bytes: &[u8]) -> Result<DynamicImage, PictureError> {
    if bytes.len() > MOST_BYTES {
        return Err(PictureError::TooLarge);
    }
    let mut reader = ImageReader::new(Cursor::new(bytes))
        .with_guessed_format()
        .map_err(|_| PictureError::Unreadable)?;
    if !matches!(reader.format(), Some(ImageFormat::Jpeg | ImageFormat::Png | ImageFormat::WebP)) {
        return Err(PictureError::Unreadable);
    }
    let mut limits = Limits::default();
    limits.max_image_width = Some(12_000);
    limits.max_image_height = Some(12_000);
    limits.max_alloc = Some(MOST_PIXELS * 4 + 16 * 1024 * 1024);
    reader.limits(limits);
    let told = |error: image::ImageError| match error {
        image::ImageError::Limits(_) => PictureError::TooLarge,
        _ => PictureError::Unreadable,
    };
    let mut decoder = reader.into_decoder().map_err(told)?;
    // Its head says how large it is: nothing is decoded, nor any room made for it, before.
    let (width, height) = decoder.dimensions();
    if u64::from(width) * u64::from(height) > MOST_PIXELS || decoder.total_bytes() > MOST_PIXELS * 4
    {
        return Err(PictureError::TooLarge);
    }
    let upright = decoder.orientation().map_err(told)?;
    let mut picture = DynamicImage::from_decoder(decoder).map_err(told)?;
    picture.apply_orientation(upright);
    Ok(picture)
}

fn within(picture: DynamicImage, width: u32, height: u32) -> DynamicImage {
    if picture.width() <= width && picture.height() <= height {
        picture
    } else {
        picture.resize(width, height, image::imageops::FilterType::Triangle)
    }
}

fn jpeg(picture: &DynamicImage) -> Result<Vec<u8>, PictureError> {
    // See-through parts become white, as on paper.
    let rgba = picture.to_rgba8();
    let mut white = image::RgbImage::from_pixel(rgba.width(), rgba.height(), image::Rgb([255; 3]));
    for (x, y, p) in rgba.enumerate_pixels() {
        let [r, g, b, a] = p.0.map(u32::from);
        let mix = |c: u32| u8::try_from((c * a + 255 * (255 - a)) / 255).unwrap_or(255);
        white.put_pixel(x, y, image::Rgb([mix(r), mix(g), mix(b)]));
    }
    let mut bytes = Vec::new();
    JpegEncoder::new_with_quality(&mut bytes, 82)
        .encode_image(&white)
        .map_err(|_| PictureError::Unreadable)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn png(width: u32, height: u32) -> Vec<u8> {
        let picture = DynamicImage::ImageRgba8(image::RgbaImage::from_pixel(
            width,
            height,
            image::Rgba([20, 67, 47, 128]),
        ));
        let mut bytes = Cursor::new(Vec::new());
        picture.write_to(&mut bytes, ImageFormat::Png).unwrap();
        bytes.into_inner()
    }

    #[test]
    fn a_picture_is_made_smaller_and_written_anew() {
        let kept = keep(&png(2560, 640)).unwrap();
        assert_eq!((kept.width, kept.height), (1280, 320));
        let small = image::load_from_memory(&kept.small).unwrap();
        assert_eq!((small.width(), small.height()), (480, 120));
        let p = small.to_rgb8().get_pixel(5, 5).0;
        assert!(p[0] > 120 && p[1] > 140, "white shows through: {p:?}");
    }

    #[test]
    fn what_is_no_picture_is_refused() {
        assert_eq!(keep(b"<svg onload=alert(1)>").unwrap_err(), PictureError::Unreadable);
        assert_eq!(keep(&png(40, 40)[..60]).unwrap_err(), PictureError::Unreadable);
        assert_eq!(keep(&png(13_000, 2)).unwrap_err(), PictureError::TooLarge);
    }

    /// A PNG picture whose head says another size than it has (ISO/IEC 15948 §11.2.2).
    fn saying(width: u32, height: u32) -> Vec<u8> {
        let mut bytes = png(40, 40);
        bytes[16..20].copy_from_slice(&width.to_be_bytes());
        bytes[20..24].copy_from_slice(&height.to_be_bytes());
        let mut crc = u32::MAX;
        for byte in &bytes[12..29] {
            crc ^= u32::from(*byte);
            for _ in 0..8 {
                crc = (crc >> 1) ^ (0xEDB8_8320 & 0_u32.wrapping_sub(crc & 1));
            }
        }
        bytes[29..33].copy_from_slice(&(!crc).to_be_bytes());
        bytes
    }

    #[test]
    fn how_large_it_is_is_asked_before_anything_is_decoded() {
        // Nothing of what the head promises is there: decoding would find it broken.
        assert_eq!(keep(&saying(9000, 9000)).unwrap_err(), PictureError::TooLarge);
        assert_eq!(keep(&saying(6000, 4001)).unwrap_err(), PictureError::TooLarge);
        assert_eq!(keep(&saying(6000, 4000)).unwrap_err(), PictureError::Unreadable);
        assert_eq!(mark(&saying(9000, 9000)).unwrap_err(), PictureError::TooLarge);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        /// Bytes that begin like a picture, and pictures with bytes changed, are read or refused.
        #[test]
        fn no_bytes_make_reading_a_picture_fall_over(
            head in prop_oneof![
                Just(&b"\x89PNG\r\n\x1a\n"[..]), Just(&b"\xff\xd8\xff\xe0"[..]),
                Just(&b"RIFF\0\0\0\0WEBP"[..]), Just(&b"GIF89a"[..]), Just(&b""[..]),
            ],
            rest in prop::collection::vec(any::<u8>(), 0..300),
            changed in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..8),
        ) {
            let _ = keep(&[head, &rest].concat());
            let mut spoiled = png(24, 16);
            for (at, byte) in changed {
                let at = at.index(spoiled.len());
                spoiled[at] = byte;
            }
            let _ = keep(&spoiled);
        }
    }
}
