//! The house at the Office: places, hosts, tags, tax rates, opening hours, terms, roles,
//! and the log of who changed what.

pub mod audit;
pub mod backup;
pub mod face;
pub mod first;
pub mod settings;
pub mod things;

use matricle_core::PersonId;
use matricle_core::dates::recurrence::WEEK;
use matricle_core::dates::slots::Opening;
use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, Role, require};
use matricle_formats::words;
use matricle_store::house::House;
use matricle_store::people::{self, Staff};
use matricle_store::places::{self, Change, Host, Room, Tag, TaxRate, Venue};

use crate::planning::slots;
use crate::{Desk, DeskError, house_of};

/// Everything the pages of the house show.
#[derive(Debug, Clone)]
pub struct Rooms {
    /// The house.
    pub house: House,
    /// Venues.
    pub venues: Vec<Venue>,
    /// Rooms.
    pub rooms: Vec<Room>,
    /// Hosts.
    pub hosts: Vec<Host>,
    /// Tags.
    pub tags: Vec<Tag>,
    /// Tax rates.
    pub tax_rates: Vec<TaxRate>,
    /// Opening hours.
    pub hours: Vec<Opening>,
    /// Days that are closed, and why.
    pub closed: Vec<(jiff::civil::Date, String)>,
    /// Everybody with a role.
    pub staff: Vec<Staff>,
    /// Addresses of members.
    pub members: Vec<String>,
}

/// The house, whole.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Rooms, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let today = words::local(now, &house.zone).date();
            Ok(Rooms {
                venues: places::venues(conn)?,
                rooms: places::rooms(conn)?,
                hosts: places::hosts(conn)?,
                tags: places::tags(conn)?,
                tax_rates: places::tax_rates(conn)?,
                hours: places::opening_hours(conn)?,
                closed: places::closed_days(conn, today)?,
                staff: people::staff_of(conn)?,
                members: people::members(conn)?,
                house,
            })
        })
        .await
}

/// Some of the log of changes, the latest first, and how many there are in all.
pub async fn changes(
    desk: &Desk,
    staff: &Staff,
    skip: u32,
    most: u32,
) -> Result<(Vec<Change>, u32), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            Ok((places::changes(conn, None, skip, most)?, places::count_changes(conn)?))
        })
        .await
}

fields! {
    OPENS: Clock = "opens", "opens";
    CLOSES: Clock = "closes", "closes";
}

/// The form of the opening hours: two parts of each day of the week.
pub fn opening(f: &mut Binding<'_>, hours: &mut Vec<Opening>) {
    let stood = std::mem::take(hours);
    for (i, weekday) in WEEK.into_iter().enumerate() {
        let mut parts = stood.iter().filter(|o| o.weekday == weekday);
        for part in 0..2 {
            let (mut opens, mut closes) = parts.next().map(|o| (o.opens, o.closes)).unzip();
            let until = format!("{}_{i}_{part}", CLOSES.name);
            f.bind_named(&format!("{}_{i}_{part}", OPENS.name), &OPENS, &mut opens);
            f.bind_named(&until, &CLOSES, &mut closes);
            hours.extend(opens.zip(closes).map(|(opens, closes)| Opening {
                weekday,
                opens,
                closes,
            }));
            match (opens, closes, f.form()) {
                (Some(opens), Some(closes), Some(form)) if closes <= opens => {
                    form.fault(&until, Fault::EndsFirst);
                }
                (Some(_), None, Some(form)) | (None, Some(_), Some(form)) => {
                    form.fault(&until, Fault::NeedsOther);
                }
                _ => {}
            }
        }
    }
}

/// Writes the opening hours; slots that nobody has booked are cut again.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set_hours(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let mut hours = Vec::new();
    opening(&mut Binding::Read(&mut form, &Locale::default()), &mut hours);
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            places::set_opening_hours(tx, &hours)?;
            let today = words::local(turn.now, &house_of(tx)?.zone).date();
            slots::recut_all(tx, today, turn.now)?;
            turn.log(tx, "changed the opening hours", "/office/house/hours")
        })
        .await
}

fields! {
    MEMBERS: PastedAddresses(6, 50_000) = "members", "Addresses of members",
        "One on a line. Members see their prices once they have signed in by mail.";
}

/// Writes who is a member, by their addresses: one on a line.
///
/// # Errors
/// [`DeskError::Form`] when a line is no address; the role may not.
pub async fn set_members(desk: &Desk, staff: &Staff, mut form: Form) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let members = form.read(&MEMBERS, &Locale::default());
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            people::set_members(tx, &members, turn.now)?;
            let n = u32::try_from(people::members(tx)?.len()).unwrap_or(u32::MAX);
            turn.log(tx, &format!("wrote down {n} members"), "/office/house/people")?;
            Ok(n)
        })
        .await
}

fields! {
    NAME: Line = "name", "Name" needed;
    EMAIL: MailAddress = "email", "E-mail address", "Somebody known gets the other role." needed;
    ROLE: Choice = "role", "Role";
    HOST: Line = "host", "Which host they are",
        "The name on the dates they lead: they see those, and who comes.";
    PASSWORD: Password = "password", "First password",
        "Only for somebody new, or to replace the old one.";
}

/// Gives a person a role; somebody new needs a password for the first time.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn give_role(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::GiveRoles)?;
    let locale = Locale::default();
    let (name, email) = (form.read(&NAME, &locale), form.read(&EMAIL, &locale));
    let role = Role::from_word(form.get(ROLE.name));
    if role.is_none() {
        form.fault(ROLE, Fault::Unknown);
    }
    // A host sees their own dates: which those are, the name on them says.
    let host = form.read(&HOST, &locale);
    if role == Some(Role::Host) && host.is_empty() {
        form.fault(HOST, Fault::Missing);
    } else if host.contains(',') {
        form.fault(HOST, Fault::Unknown);
    }
    let password = form.read(&PASSWORD, &locale);
    let (asked, own) = (email.clone(), staff.email.clone());
    let known = desk.store.read(move |conn| people::by_email(conn, &asked)).await?;
    if known.is_none() && password.is_empty() {
        form.fault(PASSWORD, Fault::Missing);
    }
    if !password.is_empty() && password.chars().count() < crate::people::signin::LEAST {
        form.fault(PASSWORD, Fault::TooShort(crate::people::signin::LEAST));
    }
    // Nobody takes the last key out of the door by accident.
    if email.eq_ignore_ascii_case(&own) && role != Some(Role::Administrator) {
        form.fault(ROLE, Fault::Taken);
    }
    form.done().map_err(DeskError::Form)?;
    let Some(role) = role else { return Err(DeskError::NotFound) };
    if password.is_empty() {
        let (n, e) = (name.clone(), email.clone());
        desk.store.write(move |tx| people::set_role(tx, &e, &n, role)).await?;
        desk.sessions.forget();
    } else {
        crate::people::signin::employ(desk, name.clone(), email.clone(), role, password).await?;
    }
    desk.store
        .write(move |tx| {
            if role == Role::Host {
                let id = places::host_named(tx, &host)?;
                let person = people::by_email(tx, &email)?.ok_or(DeskError::NotFound)?.0.id;
                let all = places::hosts(tx)?;
                let known = all.into_iter().find(|h| h.id == id).ok_or(DeskError::NotFound)?;
                places::save_host(tx, &Host { person: Some(person), ..known })?;
            }
            let what = format!("made {name} {}", role.word());
            matricle_store::audit::note(tx, &turn.by.name, &what, "", turn.now)?;
            turn.log(tx, &what, "/office/house/people")
        })
        .await
}

/// Takes a person's role away; their sessions end.
///
/// # Errors
/// [`DeskError::NotFound`] for oneself; the role may not.
pub async fn take_role(desk: &Desk, staff: &Staff, person: PersonId) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::GiveRoles)?;
    if person == staff.id {
        return Err(DeskError::NotFound);
    }
    desk.store
        .write(move |tx| {
            let name = people::take_role(tx, person)?.ok_or(DeskError::NotFound)?;
            let what = format!("took the role of {name} away");
            matricle_store::audit::note(tx, &turn.by.name, &what, "", turn.now)?;
            turn.log(tx, &what, "/office/house/people")
        })
        .await?;
    desk.sessions.forget();
    Ok(())
}
