//! What is coming, for machines: an Atom feed (RFC 4287) and schema.org events in JSON-LD.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use matricle_core::dates::availability::Availability;
use matricle_core::dates::schedule::Span;
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesEnd, BytesStart, BytesText, Event};
use serde_json::{Value, json};

/// A date as feeds tell it.
#[derive(Debug, Clone)]
pub struct Item {
    /// Unique for ever: a URI (RFC 4287 §4.2.6).
    pub id: String,
    /// The page about it.
    pub url: String,
    /// Its title.
    pub title: String,
    /// One sentence.
    pub summary: String,
    /// When.
    pub span: Span,
    /// Where: name and address; empty for what is online only.
    pub place: (String, String),
    /// Takes place online, or online as well.
    pub online: bool,
    /// Will not take place.
    pub called_off: bool,
    /// When it last changed.
    pub changed_at: Timestamp,
    /// Who leads it; may be empty.
    pub hosts: String,
    /// Lowest and highest price, as figures without a currency sign.
    pub prices: Option<(String, String)>,
    /// What is sold, ticket by ticket, where that is known.
    pub tickets: Vec<Ticket>,
    /// ISO 4217 letters.
    pub currency: String,
    /// Whether a stranger can book it.
    pub availability: Availability,
    /// An address of its picture.
    pub image: Option<String>,
}

/// A ticket as programs read it.
#[derive(Debug, Clone)]
pub struct Ticket {
    /// Its name.
    pub name: String,
    /// What it costs, as figures without a currency sign.
    pub price: String,
    /// Whether a stranger can have it.
    pub availability: Availability,
}

/// A notice as a feed tells it.
#[derive(Debug, Clone)]
pub struct Notice {
    /// Unique for ever: a URI (RFC 4287 §4.2.6).
    pub id: String,
    /// The page it stands on.
    pub url: String,
    /// Its heading.
    pub title: String,
    /// Its words, plain.
    pub words: String,
    /// When it was put up.
    pub at: Timestamp,
}

/// RFC 3339, in UTC.
fn stamp(at: Timestamp) -> String {
    at.to_zoned_datetime(TimeZone::UTC).strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// With the offset of the zone, as schema.org wants it (ISO 8601).
fn local(at: Timestamp, zone: &str) -> String {
    at.to_zoned_datetime(crate::words::zone(zone)).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

/// An Atom feed of notices, the latest first, and of dates, the last changed first; `home` and
/// `own` are the addresses of what it is of, and its own.
///
/// # Errors
/// Never in memory; the writer's error is passed on all the same.
pub fn atom(
    house: &str,
    (home, own): (&str, &str),
    items: &[Item],
    notices: &[Notice],
    now: Timestamp,
) -> std::io::Result<Vec<u8>> {
    let mut w = Writer::new(Vec::new());
    let text = |w: &mut Writer<Vec<u8>>, name: &str, text: &str| -> std::io::Result<()> {
        w.write_event(Event::Start(BytesStart::new(name)))?;
        w.write_event(Event::Text(BytesText::new(&printable(text))))?;
        w.write_event(Event::End(BytesEnd::new(name)))
    };
    let link = |w: &mut Writer<Vec<u8>>, rel: &str, href: &str| {
        let mut tag = BytesStart::new("link");
        tag.push_attribute(("rel", rel));
        tag.push_attribute(("href", href));
        w.write_event(Event::Empty(tag))
    };
    w.write_event(Event::Decl(BytesDecl::new("1.0", Some("utf-8"), None)))?;
    let mut feed = BytesStart::new("feed");
    feed.push_attribute(("xmlns", "http://www.w3.org/2005/Atom"));
    w.write_event(Event::Start(feed))?;
    text(&mut w, "title", house)?;
    text(&mut w, "id", own)?;
    let changed = items.iter().map(|i| i.changed_at).chain(notices.iter().map(|n| n.at));
    let updated = changed.max().unwrap_or(now);
    text(&mut w, "updated", &stamp(updated))?;
    link(&mut w, "alternate", home)?;
    link(&mut w, "self", own)?;
    w.write_event(Event::Start(BytesStart::new("author")))?;
    text(&mut w, "name", house)?;
    w.write_event(Event::End(BytesEnd::new("author")))?;
    for notice in notices {
        w.write_event(Event::Start(BytesStart::new("entry")))?;
        text(&mut w, "title", &notice.title)?;
        text(&mut w, "id", &notice.id)?;
        text(&mut w, "updated", &stamp(notice.at))?;
        link(&mut w, "alternate", &notice.url)?;
        text(&mut w, "summary", &notice.words)?;
        w.write_event(Event::End(BytesEnd::new("entry")))?;
    }
    let mut items: Vec<&Item> = items.iter().collect();
    items.sort_by_key(|i| std::cmp::Reverse(i.changed_at));
    for item in items {
        w.write_event(Event::Start(BytesStart::new("entry")))?;
        let off = if item.called_off { "Called off: " } else { "" };
        text(&mut w, "title", &format!("{off}{}", item.title))?;
        text(&mut w, "id", &item.id)?;
        text(&mut w, "updated", &stamp(item.changed_at))?;
        link(&mut w, "alternate", &item.url)?;
        let when = crate::words::long_span(item.span.starts, item.span.ends);
        let place =
            if item.place.0.is_empty() { String::new() } else { format!(" {}.", item.place.0) };
        text(&mut w, "summary", &format!("{when}.{place} {}", item.summary))?;
        w.write_event(Event::End(BytesEnd::new("entry")))?;
    }
    w.write_event(Event::End(BytesEnd::new("feed")))?;
    Ok(w.into_inner())
}

/// Characters that XML 1.0 §2.2 allows.
fn printable(text: &str) -> String {
    text.chars().filter(|c| !c.is_control() || matches!(c, '\t' | '\n' | '\r')).collect()
}

/// Whether it can be had, and from when (schema.org `ItemAvailability`).
fn offered(offer: &mut Value, availability: Availability, zone: &str) {
    let word = match availability {
        Availability::Open => "InStock",
        Availability::MembersOnly => "LimitedAvailability",
        Availability::NotYet(_) => "PreOrder",
        Availability::SoldOut => "SoldOut",
        Availability::Over => "OutOfStock",
    };
    offer["availability"] = json!(format!("https://schema.org/{word}"));
    if let Availability::NotYet(from) = availability {
        offer["availabilityStarts"] = json!(local(from, zone));
    }
    if availability == Availability::MembersOnly {
        offer["eligibleCustomerType"] = json!("members");
    }
}

/// One date as a schema.org Event.
#[must_use]
pub fn schema(item: &Item, house: &str, home: &str) -> Value {
    let place = (!item.place.0.is_empty()).then(|| {
        let mut place = json!({ "@type": "Place", "name": item.place.0 });
        if !item.place.1.is_empty() {
            place["address"] = json!({ "@type": "PostalAddress", "streetAddress": item.place.1 });
        }
        place
    });
    let online = item.online.then(|| json!({ "@type": "VirtualLocation", "url": item.url }));
    let mode = match (place.is_some(), item.online) {
        (true, true) => "MixedEventAttendanceMode",
        (false, true) => "OnlineEventAttendanceMode",
        _ => "OfflineEventAttendanceMode",
    };
    let locations: Vec<Value> = place.into_iter().chain(online).collect();
    let mut event = json!({
        "@type": "Event",
        "@id": item.id,
        "name": item.title,
        "description": item.summary,
        "url": item.url,
        "startDate": local(item.span.starts_at, &item.span.zone),
        "endDate": local(item.span.ends_at, &item.span.zone),
        "eventStatus": if item.called_off { "https://schema.org/EventCancelled" } else { "https://schema.org/EventScheduled" },
        "eventAttendanceMode": format!("https://schema.org/{mode}"),
        "location": locations,
        "organizer": { "@type": "Organization", "name": house, "url": home },
    });
    if !item.called_off {
        let tickets = item.tickets.iter().map(|t| {
            let mut one = json!({
                "@type": "Offer", "name": t.name, "url": item.url, "price": t.price,
                "priceCurrency": item.currency,
            });
            offered(&mut one, t.availability, &item.span.zone);
            one
        });
        let tickets: Vec<Value> = tickets.collect();
        if !tickets.is_empty() {
            event["offers"] = Value::from(tickets);
        } else if let Some((least, most)) = &item.prices {
            event["offers"] = json!({
                "@type": "AggregateOffer", "url": item.url, "lowPrice": least, "highPrice": most,
                "priceCurrency": item.currency,
            });
            offered(&mut event["offers"], item.availability, &item.span.zone);
        }
    }
    if !item.hosts.is_empty() {
        let people: Vec<Value> =
            item.hosts.split(", ").map(|name| json!({ "@type": "Person", "name": name })).collect();
        event["performer"] = Value::from(people);
    }
    if let Some(image) = &item.image {
        event["image"] = json!(image);
    }
    event
}

/// Events as one JSON-LD document, fit to stand inside a page: nothing in it ends a script.
#[must_use]
pub fn json_ld(items: &[Item], house: &str, home: &str) -> String {
    let events: Vec<Value> = items.iter().map(|i| schema(i, house, home)).collect();
    json!({ "@context": "https://schema.org", "@graph": events })
        .to_string()
        .replace('<', "\\u003c")
        .replace('>', "\\u003e")
        .replace('&', "\\u0026")
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::datetime;
    use quick_xml::Reader;

    fn ticket(name: &str, price: &str) -> Ticket {
        Ticket { name: name.into(), price: price.into(), availability: Availability::Open }
    }

    fn item(n: i8, title: &str) -> Item {
        let at = |h| datetime(2026, 12, n, h, 0, 0, 0);
        Item {
            id: format!("http://club.example/feeds/date/{n}"),
            url: "http://club.example/events/pollen?a=1&b=2".into(),
            title: title.into(),
            summary: "A day at the <microscope> & more".into(),
            span: Span::new(at(10), at(15), "Europe/Dublin").unwrap(),
            place: ("Millrace Barn".into(), "3 Weir Lane".into()),
            online: n == 13,
            called_off: n == 13,
            changed_at: Timestamp::from_second(i64::from(n)).unwrap(),
            hosts: "Siân O'Hara, Owen Pryce".into(),
            prices: Some(("36.00".into(), "48.00".into())),
            tickets: if n == 12 {
                Vec::new()
            } else {
                vec![ticket("Grown-up", "36.00"), ticket("Child", "0.00")]
            },
            currency: "EUR".into(),
            availability: Availability::Open,
            image: None,
        }
    }

    #[test]
    fn an_atom_feed_is_read_back() {
        let items = [item(12, "Pollen & \u{7}lens"), item(13, "Wax")];
        let notices = [Notice {
            id: "http://club.example/events/wax#notice-4".into(),
            url: "http://club.example/events/wax".into(),
            title: "Wax: Moved <now>".into(),
            words: "Before: Monday.\nNow: Tuesday & later.".into(),
            at: Timestamp::from_second(86_400).unwrap(),
        }];
        let of = ("http://club.example/", "http://club.example/all.atom");
        let bytes = atom("Club", of, &items, &notices, Timestamp::UNIX_EPOCH).unwrap();
        let text = String::from_utf8(bytes).unwrap();
        insta::assert_snapshot!(text.replace("><", ">\n<"));
        let mut reader = Reader::from_str(&text);
        let mut entries = 0;
        loop {
            match reader.read_event().unwrap() {
                Event::Start(tag) if tag.name().as_ref() == "entry" => entries += 1,
                Event::Eof => break,
                _ => {}
            }
        }
        assert_eq!(entries, 3);
    }

    #[test]
    fn json_ld_is_read_back_and_ends_no_script() {
        let text =
            json_ld(&[item(12, "</script><b>"), item(13, "Wax")], "Club", "http://club.example");
        assert!(!text.contains('<') && !text.contains('&'));
        let read: Value = serde_json::from_str(&text).unwrap();
        let events = read["@graph"].as_array().unwrap();
        assert_eq!(events[0]["name"], "</script><b>");
        assert_eq!(events[0]["startDate"], "2026-12-12T10:00:00+00:00");
        let offers = &events[0]["offers"];
        assert_eq!(
            (&offers["@type"], &offers["lowPrice"]),
            (&json!("AggregateOffer"), &json!("36.00"))
        );
        assert_eq!(offers["availability"], "https://schema.org/InStock");
        let place = &events[0]["location"][0]["address"];
        assert_eq!(place["streetAddress"], "3 Weir Lane");
        let sold = schema(&item(14, "Wax"), "Club", "http://club.example");
        let sold: Vec<_> = sold["offers"].as_array().unwrap().iter().map(|o| &o["name"]).collect();
        assert_eq!(sold, ["Grown-up", "Child"], "an offer for each ticket");
        assert_eq!(events[1]["eventStatus"], "https://schema.org/EventCancelled");
        assert_eq!(events[1]["eventAttendanceMode"], "https://schema.org/MixedEventAttendanceMode");
        assert_eq!(events[1]["performer"][1]["name"], "Owen Pryce");
    }
}
