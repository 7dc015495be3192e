//! The wording of an event: its form, and keeping it.

use matricle_core::fields;
use matricle_core::forms::field::Binding;
use matricle_core::forms::form::{Fault, Form, slug};
use matricle_core::people::staff::Right;
use matricle_core::{EventId, TagId};
use matricle_formats::rich;
use matricle_store::events::{self, Event, Format};
use matricle_store::people::Staff;
use matricle_store::places::{self, Tag};
use matricle_store::{Tx, bookings};

use crate::acting::Turn;
use crate::planning::dates::log;
use crate::{Desk, DeskError, house_of};

/// Longest description, in characters of HTML.
const LONGEST: usize = 100_000;

/// What is shown for each format.
const FORMATS: &[(Format, &str)] = &[
    (Format::InPerson, Format::InPerson.word()),
    (Format::Online, Format::Online.word()),
    (Format::Both, Format::Both.word()),
];

fields! {
    TITLE: Line = "title", "Title" needed;
    KIND: Line = "kind", "Kind", "It stands above the title." needed;
    LEAD: Line = "lead", "In one sentence", "For lists, feeds and previews on other sites.";
    DESCRIPTION: Text(8, LONGEST) = "description", "Description",
        "Web and mail addresses become links by themselves.";
    BRING: Line = "bring", "What to bring";
    CONTACT: Line = "contact", "Whom to ask",
        "A mail address or a number that everybody may see.";
    DROP_IN: Tick = "drop_in", "Nobody books it: people just come";
    PRICE_WORDS: Line = "price_words", "What it costs then, in words";
    REFUND_NOTE: Text(2, 1000) = "refund_note", "How cancelling works";
    BUTTON: Line = "button", "Word on the booking button",
        "Left empty, it says how long the seats are kept.";
    AFTER_NOTE: Text(2, 2000) = "after_note", "Note after booking",
        "On the booking’s page and in the confirmation.";
    FORMAT: OneOf<Format>(FORMATS) = "format", "Format";
    ONLINE_LINK: Link = "online_link", "Link to join online",
        "The room of all its dates that have none of their own. It stands behind the attendees’ own links; may come later.";
    ONLINE_PASSCODE: Line = "online_passcode", "Passcode online";
    ACCENT: Colour = "accent", "Colour of its page",
        "Such as #1d4f3f; left empty, the colour of the house.";
    SLUG: Line = "slug", "Address in the Programme",
        "The address it had before keeps leading here." needed;
    TAGS: Several = "tag", "Tags";
    NEW_TAG: Line = "new_tag", "Another tag", "Made on the way.";
    LISTED: Tick = "listed", "Listed in the Programme", "otherwise only for those with the link";
}

/// The form: the event's wording, and the words of its tags.
pub fn form(f: &mut Binding<'_>, event: &mut Event, tags: &mut Vec<String>) {
    f.bind(&TITLE, &mut event.title);
    f.bind(&KIND, &mut event.kind);
    f.bind(&LEAD, &mut event.lead);
    f.bind(&DESCRIPTION, &mut event.description);
    f.bind(&BRING, &mut event.bring);
    f.bind(&CONTACT, &mut event.contact);
    f.bind(&DROP_IN, &mut event.drop_in);
    f.bind(&PRICE_WORDS, &mut event.price_words);
    f.bind(&REFUND_NOTE, &mut event.refund_note);
    f.bind(&BUTTON, &mut event.button);
    f.bind(&AFTER_NOTE, &mut event.after_note);
    f.bind(&FORMAT, &mut event.format);
    f.bind(&ONLINE_LINK, &mut event.online_link);
    f.bind(&ONLINE_PASSCODE, &mut event.online_passcode);
    f.bind(&ACCENT, &mut event.accent);
    f.bind(&SLUG, &mut event.slug);
    f.bind(&TAGS, tags);
    f.bind(&LISTED, &mut event.listed);
}

/// Writes an event's wording.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn keep(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    mut typed: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    // Cleaned before anything is written: a seat does not wait for it.
    let description = typed.clone().text(DESCRIPTION.name, LONGEST);
    let described = crate::off_thread(move || Ok(rich::clean(&description))).await?;
    desk.store
        .write(move |tx| {
            let was = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let (mut event, mut tags) = (was.clone(), Vec::new());
            let locale = house_of(tx)?.locale();
            form(&mut Binding::Read(&mut typed, &locale), &mut event, &mut tags);
            event.description = described;
            if event.drop_in && !was.drop_in && bookings::count_live(tx, id)? > 0 {
                typed.fault(DROP_IN, Fault::Taken);
            }
            let word = slug(&event.slug);
            if word.is_empty() {
                typed.fault(SLUG, Fault::NoWord);
            } else if events::slug_of_another(tx, &word, id)? {
                typed.fault(SLUG, Fault::Taken);
            }
            let new_tag = typed.line(NEW_TAG.name);
            if !new_tag.is_empty() && slug(&new_tag).is_empty() {
                typed.fault(NEW_TAG, Fault::NoWord);
            }
            typed.done().map_err(DeskError::Form)?;
            tags.extend(made_on_the_way(tx, &new_tag, &turn)?);
            events::set_slug(tx, id, &word)?;
            events::set_tags(tx, id, &tags)?;
            events::set(tx, &event, turn.now)?;
            log(tx, id, &turn, "changed the wording")
        })
        .await
}

/// A tag that was typed, made if there is none of the word; its word.
fn made_on_the_way(tx: &Tx<'_>, name: &str, turn: &Turn) -> Result<Option<String>, DeskError> {
    let word = slug(name);
    if word.is_empty() {
        return Ok(None);
    }
    if !places::tags(tx)?.iter().any(|t| t.slug == word) {
        let tag = Tag {
            id: TagId(0),
            name: name.to_owned(),
            slug: word.clone(),
            description: String::new(),
            retired_at: None,
        };
        places::save_tag(tx, &tag)?;
        turn.log(tx, &format!("added the tag {name}"), "/office/house/tags")?;
    }
    Ok(Some(word))
}
