//! Files of the house that go with messages.

use matricle_core::forms::form::{Fault, Form, Wrong};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::text;
use matricle_store::Connection;
use matricle_store::house::House;
use matricle_store::house_files::{self as db, HouseFile};
use matricle_store::people::Staff;
use matricle_store::templates::Goes;

use crate::{Desk, DeskError, house_of};

/// Most megabytes of a file: it goes with every mail.
pub const MOST: u32 = 2;

/// Most megabytes of all files of the house that go with one mail.
pub const MOST_TOGETHER: u32 = 8;

/// The files in use, and those out of it that some words still have.
pub async fn all(
    desk: &Desk,
    staff: &Staff,
    had: &[Goes],
) -> Result<(House, Vec<HouseFile>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let had: Vec<i64> = had.iter().filter_map(|g| g.file()).collect();
    desk.store
        .read(move |conn| {
            let mut files = db::all(conn)?;
            files.retain(|f| !f.retired || had.contains(&f.id));
            Ok((house_of(conn)?, files))
        })
        .await
}

/// Whether the files of the house among these are more than go with one mail.
pub(super) fn are_too_many(conn: &Connection, goes: &[Goes]) -> Result<bool, DeskError> {
    let ours = |id: i64| goes.iter().any(|g| g.file() == Some(id));
    let bytes: u64 = db::all(conn)?.iter().filter(|f| ours(f.id)).map(|f| u64::from(f.bytes)).sum();
    Ok(bytes > u64::from(MOST_TOGETHER) * 1024 * 1024)
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
/// [`DeskError::Form`] for what is no PDF, JPEG or PNG, too large, or named like one in use; the
/// role may not.
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
            // Words show a picture by its name: no two files in use have the same.
            if db::all(tx)?.iter().any(|f| !f.retired && f.name == name) {
                let taken = Wrong { field: "file".into(), fault: Fault::Taken };
                return Err(DeskError::Form(vec![taken]));
            }
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
