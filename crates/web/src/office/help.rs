//! The guide in the program: its chapters, searched, each page of the Office leading to its part.

use std::sync::LazyLock;

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::words::fold;
use matricle_desk::DeskError;
use pulldown_cmark::{Event, Parser, Tag, TagEnd, html};
use serde::Deserialize;

use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{self, Frame};

/// The guide as it ships.
const GUIDE: &str = include_str!("../../../../docs/GUIDE.md");

/// A chapter of the guide.
struct Chapter {
    slug: String,
    title: String,
    html: String,
    /// Its paragraphs and list items as plain text, each with its folded words.
    passages: Vec<(String, String)>,
}

static CHAPTERS: LazyLock<Vec<Chapter>> = LazyLock::new(|| {
    GUIDE.split("\n## ").skip(1).filter_map(|text| text.split_once('\n')).map(chapter).collect()
});

fn slug_of(title: &str) -> String {
    fold(title)
        .split(|c: char| !c.is_alphanumeric())
        .filter(|w| !w.is_empty())
        .collect::<Vec<_>>()
        .join("-")
}

fn chapter((title, body): (&str, &str)) -> Chapter {
    // Addresses beside the guide lead nowhere in the program: their words stay.
    let events = Parser::new(body).filter(|e| {
        let link = match e {
            Event::Start(Tag::Link { dest_url, .. }) => !dest_url.starts_with('#'),
            Event::End(TagEnd::Link) => true,
            _ => false,
        };
        !link
    });
    let mut html = String::new();
    html::push_html(&mut html, events);
    let mut passages = Vec::new();
    let mut passage = String::new();
    for event in Parser::new(body) {
        match event {
            Event::Text(text) | Event::Code(text) => passage.push_str(&text),
            Event::SoftBreak | Event::HardBreak => passage.push(' '),
            Event::End(TagEnd::Paragraph | TagEnd::Item | TagEnd::Heading(_)) => {
                let text = std::mem::take(&mut passage);
                if !text.trim().is_empty() {
                    passages.push((text.trim().to_owned(), fold(&text)));
                }
            }
            _ => {}
        }
    }
    Chapter { slug: slug_of(title), title: title.to_owned(), html, passages }
}

/// The chapter that tells of an address of the Office: the last of these that it begins or goes on
/// with.
fn about(path: &str) -> &'static str {
    const PARTS: [(&str, &str); 26] = [
        ("/office", "how-pages-answer"),
        ("/office/events", "a-new-event"),
        ("/office/board", "clashes-and-the-board"),
        ("/office/bookings", "looking-after-bookings"),
        ("/office/review", "events-that-members-submit"),
        ("/office/doors", "the-evening-at-the-door"),
        ("/office/messages", "what-is-sent-by-itself"),
        ("/office/messages/letters", "letters"),
        ("/office/money", "for-the-treasurer"),
        ("/office/house", "setting-the-house-up"),
        ("/office/house/submissions", "events-that-members-submit"),
        ("/office/house/feeds", "making-it-known"),
        ("/office/house/backups", "keeping-your-data"),
        ("/tickets", "seats-pools-and-tickets"),
        ("/dates", "dates"),
        ("/rules", "what-happens-when-somebody-books"),
        ("/questions", "what-happens-when-somebody-books"),
        ("/who", "members"),
        ("/invitations", "invitations-and-replies"),
        ("/replies", "invitations-and-replies"),
        ("/online", "dates-online"),
        ("/phone", "looking-after-bookings"),
        ("/coming", "looking-after-bookings"),
        ("/announce", "what-is-sent-by-itself"),
        ("/messages", "what-is-sent-by-itself"),
        ("/wording", "a-new-event"),
    ];
    let fits = |part: &str| match part.starts_with("/office") {
        true => path == part || path.strip_prefix(part).is_some_and(|rest| rest.starts_with('/')),
        false => {
            let is_of_event =
                ["/office/events/", "/office/dates/"].iter().any(|p| path.starts_with(p));
            is_of_event && path.contains(part)
        }
    };
    PARTS.iter().rev().find(|(part, _)| fits(part)).map_or("how-pages-answer", |(_, slug)| slug)
}

#[derive(Template)]
#[template(path = "office/help.html")]
struct Help {
    f: Frame,
    q: String,
    chapters: Vec<(String, String, bool)>,
    title: String,
    html: String,
    /// What was found: chapter, its address, the passage.
    found: Vec<(String, String, String)>,
    more: usize,
}

/// So many passages of the guide are shown for a search.
const MOST_FOUND: usize = 40;

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct HelpQuery {
    #[serde(default)]
    q: String,
}

async fn help(at: &Clerk, chosen: Option<&Chapter>, q: &str) -> Result<Response, WebError> {
    let house = at.app.desk.house().await?;
    let q: String = matricle_core::words::text::line(q).chars().take(100).collect();
    let folded = fold(&q);
    let words: Vec<&str> = folded.split(' ').filter(|w| !w.is_empty()).collect();
    let mut found = Vec::new();
    let mut more = 0;
    if !words.is_empty() {
        for chapter in CHAPTERS.iter() {
            for (text, known) in &chapter.passages {
                if !words.iter().all(|w| known.contains(w)) {
                    continue;
                }
                if found.len() < MOST_FOUND {
                    let to = format!("/office/help/{}", chapter.slug);
                    found.push((chapter.title.clone(), to, text.clone()));
                } else {
                    more += 1;
                }
            }
        }
    }
    page::html(&Help {
        f: at.frame(chosen.map_or("Help", |c| c.title.as_str()), &house.name),
        chapters: CHAPTERS
            .iter()
            .map(|c| (c.slug.clone(), c.title.clone(), chosen.is_some_and(|o| o.slug == c.slug)))
            .collect(),
        title: chosen.map_or_else(|| "Help".to_owned(), |c| c.title.clone()),
        html: chosen.map_or_else(String::new, |c| c.html.clone()),
        q,
        found,
        more,
    })
}

/// `GET /office/help`: the chapters of the guide, and what is found in them.
pub(crate) async fn index(
    at: Clerk,
    Query(HelpQuery { q }): Query<HelpQuery>,
) -> Result<Response, WebError> {
    help(&at, None, &q).await
}

/// `GET /office/help/here`: the chapter about the page that one comes from.
pub(crate) async fn here(_at: Clerk, headers: HeaderMap) -> Response {
    let from = headers.get(header::REFERER).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let path = from.split_once("://").and_then(|(_, rest)| rest.find('/').map(|at| &rest[at..]));
    let path = path.unwrap_or_default().split(['?', '#']).next().unwrap_or_default();
    Redirect::to(&format!("/office/help/{}", about(path))).into_response()
}

/// `GET /office/help/{chapter}`.
pub(crate) async fn chapter_page(
    at: Clerk,
    Path(slug): Path<String>,
) -> Result<Response, WebError> {
    let chapter = CHAPTERS.iter().find(|c| c.slug == slug).ok_or(DeskError::NotFound)?;
    help(&at, Some(chapter), "").await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_page_leads_to_a_chapter_that_there_is() {
        assert!(CHAPTERS.len() > 20);
        for (path, slug) in [
            ("/office", "how-pages-answer"),
            ("/office/events/new", "a-new-event"),
            ("/office/events/3/tickets/9", "seats-pools-and-tickets"),
            ("/office/events/3/messages", "what-is-sent-by-itself"),
            ("/office/messages/letters/7", "letters"),
            ("/office/bookings/KRTBXNLD", "looking-after-bookings"),
            ("/office/doors/7", "the-evening-at-the-door"),
            ("/elsewhere", "how-pages-answer"),
            ("", "how-pages-answer"),
        ] {
            assert_eq!(about(path), slug, "{path}");
        }
        let known = |slug: &str| CHAPTERS.iter().any(|c| c.slug == slug);
        for path in [
            "/office",
            "/office/events",
            "/office/board",
            "/office/bookings",
            "/office/review",
            "/office/doors",
            "/office/messages",
            "/office/messages/letters",
            "/office/money",
            "/office/house",
            "/office/house/submissions",
            "/office/house/feeds",
            "/office/house/backups",
        ] {
            assert!(known(about(path)), "{path}");
        }
        for tab in [
            "tickets",
            "dates",
            "rules",
            "questions",
            "who",
            "invitations",
            "replies",
            "online",
            "phone",
            "coming",
            "announce",
            "messages",
            "wording",
        ] {
            let path = format!("/office/events/1/{tab}");
            assert!(known(about(&path)), "{path}");
        }
        // What the guide links to beside it stays as words.
        assert!(
            CHAPTERS
                .iter()
                .all(|c| !c.html.contains("href=\"OPERATING") && !c.html.contains("<script"))
        );
    }
}
