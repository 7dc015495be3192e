//! `/office/house/submissions`: the house rules, in sentences with choices, and what each kind of
//! visitor meets under them.

use askama::Template;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::people::staff::Right;
use matricle_core::review::checks::{Check, DOUBT, LOOK};
use matricle_core::review::rules::{HouseRules, Lands, Standing, WhoMay};
use matricle_core::review::submission::Refusal;
use matricle_desk::DeskError;
use matricle_desk::review::house_rules;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
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
    lands: Vec<(&'static str, &'static str)>,
}

const LANDS: [(&str, &str); 3] = [
    ("review", "waits for a reviewer"),
    ("draft", "becomes a draft at the Office"),
    ("published", "is published at once"),
];

fn fields(r: &HouseRules) -> Fields {
    let told = |daily: bool| {
        let all: Vec<&str> =
            r.told.iter().filter(|t| t.daily == daily).map(|t| t.email.as_str()).collect();
        all.join("\n")
    };
    let (who, named) = match &r.who {
        WhoMay::Nobody => ("nobody", String::new()),
        WhoMay::Named(list) => ("named", list.join("\n")),
        WhoMay::Members => ("members", String::new()),
        WhoMay::Anybody => ("anybody", String::new()),
    };
    let mut d = Fields::of([
        ("who", who.into()),
        ("named", named),
        ("strangers", r.strangers.word().into()),
        ("members", r.members.word().into()),
        ("trusted", r.trusted.word().into()),
        ("told_at_once", told(false)),
        ("told_daily", told(true)),
        ("hour", r.hour.strftime("%H:%M").to_string()),
        ("keep", if r.keep_days == 0 { "erase" } else { "days" }.into()),
        ("keep_days", r.keep_days.max(1).to_string()),
        ("words", r.words.clone()),
        ("terms", r.terms.clone()),
        ("share", r.share.to_string()),
        ("a_day", r.a_day.to_string()),
        ("trust_after", r.trust_after.to_string()),
        ("ahead_days", r.ahead_days.to_string()),
        ("bad_domains", r.bad_domains.join("\n")),
    ]);
    for (name, on) in [
        ("change_before", r.change_before),
        ("change_after", r.change_after),
        ("withdraw", r.withdraw),
        ("suggest_places", r.suggest_places),
        ("suggest_hosts", r.suggest_hosts),
        ("pictures", r.pictures),
        ("bookable", r.bookable),
        ("own", r.own),
    ] {
        d.tick(name, on);
    }
    d
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
    let given = house_rules::settings(&at.app.desk, &at.staff).await?;
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
        lands: LANDS.to_vec(),
    };
    if page.d.count() == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    page(&at, None).await
}

/// `POST /office/house/submissions`.
pub(crate) async fn save(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let now = fields(&house_rules::settings(&at.app.desk, &at.staff).await?.rules);
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => return page(&at, Some(*again)).await,
    };
    match house_rules::set(&at.app.desk, &at.staff, form(&posted)).await {
        Ok(()) => Ok(at.done(
            "/office/house/submissions",
            "The house rules are kept. The preview below shows what they mean.",
        )),
        Err(error @ DeskError::Form(_)) => page(&at, Some(Fields::again(&posted, error)?)).await,
        Err(error) => Err(error.into()),
    }
}
