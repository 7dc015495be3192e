//! `/office/house/submissions`: the house rules, in sentences with choices, and what each kind of
//! visitor meets under them.

use askama::Template;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::forms::field::Locale;
use matricle_core::people::staff::Right;
use matricle_core::review::checks::{Check, DOUBT, LOOK};
use matricle_core::review::rules::{HouseRules, Lands, Standing, WhoMay};
use matricle_core::review::submission::Refusal;
use matricle_desk::review::house_rules as on;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::Fields;
use crate::wording;

/// What one kind of visitor meets.
struct Meets {
    who: &'static str,
    /// The sentence instead of the form; empty where there is the form.
    shut: String,
    /// What happens to what they send.
    lands: &'static str,
    /// How their address is proved.
    proves: &'static str,
}

#[derive(Template)]
#[template(path = "office/house_rules.html")]
struct RulesPage {
    f: Frame,
    d: Fields,
    may_change: bool,
    gives_roles: bool,
    meets: Vec<Meets>,
    words: Vec<String>,
    checks: Vec<(&'static str, i32)>,
    look: i32,
    doubt: i32,
}

/// The house rules as they stand.
fn fields(rules: &HouseRules) -> Fields {
    Fields::filled(&Locale::default(), |f| on::form(f, &mut rules.clone()))
}

/// What each kind of visitor meets under these rules.
fn meets(r: &HouseRules, zone: &str, now: jiff::Timestamp) -> Vec<Meets> {
    let proved = Some("somebody@post.example".to_owned());
    let named = match &r.who {
        WhoMay::Named(list) => list.first().cloned(),
        _ => proved.clone(),
    };
    let kinds = [
        ("A stranger", Standing::default()),
        (
            "Somebody who has signed in by mail",
            Standing { proved: proved.clone(), ..Standing::default() },
        ),
        ("A member who has signed in", Standing { proved, member: true, trusted: false }),
        ("Somebody named", Standing { proved: named.clone(), member: false, trusted: false }),
        ("Somebody trusted", Standing { proved: named, member: true, trusted: true }),
    ];
    kinds
        .into_iter()
        .filter(|(who, _)| *who != "Somebody named" || matches!(r.who, WhoMay::Named(_)))
        .map(|(who, standing)| {
            let may: Result<(), Refusal> = r.may_submit(&standing);
            Meets {
                who,
                lands: match r.lands(&standing) {
                    Lands::Review => "What they send waits for a reviewer.",
                    Lands::Draft => "What they send becomes a draft at the Office.",
                    Lands::Published => "What they send is in the Programme at once, unless it is doubtful or nearly the same as something else.",
                },
                proves: if standing.proved.is_some() {
                    "They have signed in: it is handed in with one click."
                } else {
                    "A link goes to their address; opening it hands it in."
                },
                shut: may.err().map_or_else(String::new, |e| wording::submission(&e, zone, now)),
            }
        })
        .collect()
}

async fn page(at: &Clerk, d: Option<Fields>) -> Result<Response, WebError> {
    let given = on::settings(&at.app.desk, &at.staff).await?;
    let (rules, house) = (given.rules, given.house);
    let now = at.app.desk.clock.now();
    let page = RulesPage {
        f: at.frame("House rules", &house.name).in_room("house"),
        meets: meets(&rules, &house.zone, now),
        words: rules.words.lines().filter(|l| !l.trim().is_empty()).map(String::from).collect(),
        d: d.unwrap_or_else(|| fields(&rules)),
        may_change: at.staff.role.may(Right::SetHouseUp),
        gives_roles: at.staff.role.may(Right::GiveRoles),
        checks: Check::ALL.iter().map(|c| (c.says(), c.points())).collect(),
        look: LOOK,
        doubt: DOUBT,
    };
    if page.d.count() == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    page(&at, None).await
}

/// `POST /office/house/submissions`.
pub(crate) async fn save(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let now = fields(&on::settings(&at.app.desk, &at.staff).await?.rules);
    let keep = |form| on::set(&at.app.desk, &at.staff, form);
    match Fields::keep(posted, &now, keep).await? {
        Ok(()) => Ok(at.done(
            "/office/house/submissions",
            "The house rules are kept. The preview below shows what they mean.",
        )),
        Err(d) => page(&at, Some(d)).await,
    }
}
