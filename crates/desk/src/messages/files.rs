//! Files of the house that go with messages.

use matricle_core::form::{Fault, Form};
use matricle_core::staff::{Right, require};
use matricle_core::text;
use matricle_store::house::House;
use matricle_store::house_files::{self as db, HouseFile};
use matricle_store::people::Staff;

use crate::{Desk, DeskError, house_of};

/// Most megabytes of a file: it goes with every mail.
pub const MOST: u32 = 2;

/// Most megabytes of all files of the house that go with one mail.
pub const MOST_TOGETHER: u32 = 8;

/// The files in use.
///
/// # Errors
/// The role may not; the store fails.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<(House, Vec<HouseFile>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store.read(|conn| Ok((house_of(conn)?, db::all(conn)?))).await
}

/// A file: its name, media type and bytes.
///
/// # Errors
/// The role may not; there is no such file.
pub async fn one(
    desk: &Desk,
    staff: &Staff,
    id: i64,
) -> Result<(String, String, Vec<u8>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store.read(move |conn| db::by_id(conn, id)?.ok_or(DeskError::NotFound)).await
}

/// The media type that the first bytes of a file tell; nothing for what does not go with mails.
fn media_type(bytes: &[u8]) -> Option<(&'static str, &'static str)> {
    [
        (&b"%PDF-"[..], "application/pdf", ".pdf"),
        (&b"\x89PNG\r\n\x1a\n"[..], "image/png", ".png"),
        (&b"\xff\xd8\xff"[..], "image/jpeg", ".jpg"),
    ]
    .into_iter()
    .find(|(begins, ..)| bytes.starts_with(begins))
    .map(|(_, media_type, ending)| (media_type, ending))
}

/// The name that receivers see: without ways into other folders, with the ending of what it is.
fn name_of(typed: &str, ending: &str) -> String {
    let last = typed.rsplit(['/', '\\']).next().unwrap_or_default();
    let line: String = text::line(last).replace('"', "").chars().take(80).collect();
    let stem = line.strip_suffix(ending).unwrap_or(&line).trim_matches(['.', ' ']).to_owned();
    format!("{}{ending}", if stem.is_empty() { "file" } else { &stem })
}

/// Adds a file.
///
/// # Errors
/// [`DeskError::Form`] for what is no PDF, JPEG or PNG, or too large; the role may not.
pub async fn add(
    desk: &Desk,
    staff: &Staff,
    name: String,
    bytes: Vec<u8>,
) -> Result<i64, DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let mut form = Form::new(Vec::new());
    let kind = media_type(&bytes);
    if bytes.len() > MOST as usize * 1024 * 1024 {
        form.fault("file", Fault::FileTooLarge(MOST));
    } else if kind.is_none() {
        form.fault("file", Fault::NotAFile);
    }
    form.done().map_err(DeskError::Form)?;
    let (media_type, ending) = kind.unwrap_or_default();
    let name = name_of(&name, ending);
    desk.store
        .write(move |tx| {
            let id = db::add(tx, &name, media_type, &bytes, turn.now)?;
            turn.log(tx, &format!("added the file {name}"), "/office/messages/files")?;
            Ok::<_, DeskError>(id)
        })
        .await
}

/// Takes a file out of use: it goes with nothing that is written from now on, and still with the
/// templates that have it. Or back into use.
///
/// # Errors
/// The role may not; there is no such file.
pub async fn retire(desk: &Desk, staff: &Staff, id: i64, out: bool) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            if !db::retire(tx, id, out.then_some(turn.now))? {
                return Err(DeskError::NotFound);
            }
            let what = if out { "took a file out of use" } else { "took a file into use again" };
            turn.log(tx, what, "/office/messages/files")
        })
        .await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_leads_nowhere_and_ends_as_what_it_is() {
        let named = |typed| name_of(typed, ".pdf");
        assert_eq!(named("../../etc/House rules.pdf"), "House rules.pdf");
        assert_eq!(named("C:\\things\\rules.exe"), "rules.exe.pdf");
        assert_eq!(named("\r\nBcc: x\".pdf"), "Bcc: x.pdf");
        assert_eq!(named(".."), "file.pdf");
        assert_eq!(media_type(b"<script>"), None);
    }
}
