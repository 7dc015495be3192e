//! What is asked of a mail before anything parses it. A parser takes memory by the number of
//! parts and headers, time by parts that end nowhere, and stack by what stands in what; a mail is
//! its sender's to build. Each bound is far above what people and their programs write.

use super::Unread;

/// Largest mail, in bytes.
pub const LARGEST: usize = 25 * 1024 * 1024;
/// Most bytes before the first empty line: the mail's own headers.
const MOST_HEAD: usize = 256 * 1024;
/// Most lines that begin as the borders of parts do.
const MOST_BORDERS: usize = 20_000;
/// Most lines that begin as headers do.
const MOST_HEADERS: usize = 200_000;
/// Most borders that are declared: each that never comes is looked for to the end.
const MOST_DECLARED: usize = 100;
/// Most mails inside a mail, at any depth.
const MOST_INSIDE: usize = 40;

/// Largest calendar that is read, in bytes: a reply is a few lines, with a zone a few hundred.
const LARGEST_CALENDAR: usize = 256 * 1024;
/// Most components that a calendar begins, at any depth: its reader calls itself for each level.
const MOST_COMPONENTS: usize = 200;

/// Whether a mail can be parsed without harm, in one pass over its bytes.
///
/// # Errors
/// [`Unread::TooLarge`], [`Unread::TooIntricate`].
pub(super) fn mail(raw: &[u8]) -> Result<(), Unread> {
    if raw.len() > LARGEST {
        return Err(Unread::TooLarge);
    }
    let (mut borders, mut headers, mut declared, mut inside) = (0_usize, 0_usize, 0_usize, 0_usize);
    let (mut head, mut in_head) = (0_usize, true);
    for line in raw.split_inclusive(|b| *b == b'\n') {
        if in_head {
            head += line.len();
            in_head = !line.trim_ascii().is_empty();
        }
        borders += usize::from(line.starts_with(b"--"));
        let name = line.iter().position(|b| !b.is_ascii_graphic() || *b == b':');
        headers += usize::from(name.is_some_and(|at| at > 0 && line[at] == b':'));
        declared += count(line, b"boundary");
        inside += count(line, b"message/");
        if head > MOST_HEAD
            || borders > MOST_BORDERS
            || headers > MOST_HEADERS
            || declared > MOST_DECLARED
            || inside > MOST_INSIDE
        {
            return Err(Unread::TooIntricate);
        }
    }
    Ok(())
}

/// Whether the lines of a calendar, unfolded, can be parsed without harm.
pub(super) fn calendar(unfolded: &str) -> bool {
    unfolded.len() <= LARGEST_CALENDAR && count(unfolded.as_bytes(), b"begin") <= MOST_COMPONENTS
}

/// Whether a calendar is worth unfolding.
pub(super) const fn calendar_size(bytes: usize) -> bool {
    bytes <= LARGEST_CALENDAR
}

/// How often a word of small letters stands in bytes, in whatever letters.
fn count(bytes: &[u8], word: &[u8]) -> usize {
    bytes.windows(word.len()).filter(|part| part.eq_ignore_ascii_case(word)).count()
}
