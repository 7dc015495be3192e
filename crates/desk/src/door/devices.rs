//! Devices: how they join, what the Office sees of them, how they are sent away.

use jiff::{SignedDuration, Timestamp};
use matricle_core::door::device::{DeviceRefusal, Grant, LETTERS_LAST, ends_by_itself};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, DeviceId};
use matricle_store::devices::{self as db, Device, NewDevice, Said};
use matricle_store::people::Staff;
use matricle_store::{audit, events};

use super::Volunteer;
use crate::people::often::Asks;
use crate::people::signin::hash_of;
use crate::{Desk, DeskError, house_of, random_bytes, random_u64};

fields! {
    NAME: Line = "name", "What it is called", "Such as: gate tablet. It stands on every scan.";
    MONEY: Tick = "money", "It takes money", "cash, the card machine, stamps";
}

/// How long a device that ended stands in the list of the Office.
const SHOWN: SignedDuration = SignedDuration::from_hours(24 * 3);

/// A device that is to join, with the letters it does so with: they are shown once.
#[derive(Debug, Clone)]
pub struct Letters {
    /// The device.
    pub device: DeviceId,
    /// Its name.
    pub name: String,
    /// The letters, as they are typed.
    pub letters: Reference,
    /// Until when they are good.
    pub until: Timestamp,
    /// When the device will end.
    pub ends_at: Timestamp,
}

/// Lets a device join: `name`, `dates` (keys with commas; none for all that are on), `money`.
/// It ends three hours after the last of its dates, or at four in the next morning.
///
/// # Errors
/// A date that is over or is none; the role may not.
pub async fn let_join(desk: &Desk, staff: &Staff, mut form: Form) -> Result<Letters, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let (by, now) = (staff.id, turn.now);
    desk.store
        .write(move |tx| {
            let house = house_of(tx)?;
            let name = form.take(&NAME);
            let name = if name.is_empty() { "A device".to_owned() } else { name };
            let (mut dates, mut last) = (Vec::new(), None);
            for word in form.text("dates", 2000).split(',').map(str::trim).filter(|w| !w.is_empty())
            {
                let known = match word.parse() {
                    Ok(id) => events::date_by_id(tx, DateId(id))?,
                    Err(_) => None,
                };
                match known.filter(|(_, d)| d.span.ends_at > now) {
                    Some((_, date)) => {
                        dates.push(date.id);
                        last = last.max(Some(date.span.ends_at));
                    }
                    None => form.fault("dates", Fault::Unknown),
                }
            }
            let on = super::open_now(tx, now)?.iter().map(|d| d.date.span.ends_at).max();
            let ends = ends_by_itself(last, on, &house.zone, now);
            let takes_money = form.take(&MONEY);
            form.done().map_err(DeskError::Form)?;
            let letters = Reference::from_random(random_u64());
            let until = now + LETTERS_LAST;
            let grant = Grant { dates, takes_money, ends_at: ends, sent_away_at: None };
            let new = NewDevice {
                name: &name,
                grant: &grant,
                by,
                letters_hash: &letters_hash(letters),
                letters_until: until,
            };
            let device = db::add(tx, &new, now)?;
            let what = format!("let the device {name} join");
            audit::note(tx, &turn.by.name, &what, "", now)?;
            Ok(Letters { device, name, letters, until, ends_at: ends })
        })
        .await
}

/// Letters are short: what is kept of them is told from other hashes.
fn letters_hash(letters: Reference) -> [u8; 32] {
    hash_of(&format!("device {}", letters.as_str()))
}

/// A device says its letters: it has joined, and this is its token, which only it keeps.
///
/// # Errors
/// [`DeviceRefusal::Letters`]; [`DeskError::TooOften`] by network.
pub async fn join(desk: &Desk, typed: &str, network: &str) -> Result<(String, Device), DeskError> {
    let now = desk.clock.now();
    desk.often.ask(Asks::Letters, network, now)?;
    let letters = Reference::parse(typed).ok_or(DeviceRefusal::Letters)?;
    let token = words_of(random_bytes::<32>());
    let hash = hash_of(&token);
    let device = desk
        .store
        .write(move |tx| {
            let device = db::by_letters(tx, &letters_hash(letters))?
                .filter(|d| d.letters_until.is_some_and(|until| until > now))
                .ok_or(DeviceRefusal::Letters)?;
            device.grant.stands(now)?;
            db::joined(tx, device.id, &hash, now)?;
            let what = format!("the device {} joined", device.name);
            audit::note(tx, &device.name, &what, "", now)?;
            Ok::<_, DeskError>(device)
        })
        .await?;
    Ok((token, device))
}

fn words_of(bytes: [u8; 32]) -> String {
    bytes.iter().fold(String::new(), |mut hex, b| {
        use std::fmt::Write;
        let _ = write!(hex, "{b:02x}");
        hex
    })
}

/// The device of a token, whether it may still do anything or not.
pub async fn by_token(desk: &Desk, token: &str) -> Result<Option<Device>, DeskError> {
    let hash = hash_of(token);
    desk.store.read(move |conn| Ok(db::by_token(conn, &hash)?)).await
}

/// A device says how it fares.
pub async fn heard(desk: &Desk, device: DeviceId, said: Said) -> Result<(), DeskError> {
    let now = desk.clock.now();
    desk.store.write(move |tx| Ok(db::heard(tx, device, &said, now)?)).await
}

/// All devices that have joined or wait to, and those that ended lately.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Vec<Device>, DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| Ok(db::all(conn, now - SHOWN)?)).await
}

/// Sends a device away at once: it may do nothing any more, and wipes what it keeps as soon as
/// it hears of it. Gives its name.
///
/// # Errors
/// There is no such device, or it was sent away before; the role may not.
pub async fn send_away(desk: &Desk, staff: &Staff, id: DeviceId) -> Result<String, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let name = desk
        .store
        .write(move |tx| {
            let device = db::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if db::send_away(tx, id, &turn.by.name, turn.now)? {
                let what = format!("sent the device {} away", device.name);
                audit::note(tx, &turn.by.name, &what, "", turn.now)?;
            }
            Ok::<_, DeskError>(device.name)
        })
        .await?;
    // Its open pages hear of it at once.
    desk.sessions.forget();
    Ok(name)
}

/// A device leaves by itself: it was handed back, or signed out.
pub async fn leave(desk: &Desk, volunteer: &Volunteer) -> Result<(), DeskError> {
    let Volunteer::Device(device) = volunteer else { return Ok(()) };
    let (id, name, now) = (device.id, device.name.clone(), desk.clock.now());
    desk.store
        .write(move |tx| db::send_away(tx, id, &name, now).map_err(DeskError::from))
        .await
        .map(drop)
}
