//! The flow at a door as a picture and in words.

use askama::Template;
use jiff::{SignedDuration, Timestamp};
use matricle_core::door::flow::{Flow, STEP};
use matricle_formats::words;

/// One step of the evening.
struct Bar {
    x: i32,
    /// Those who came: height and top.
    came: (i32, i32),
    /// Those who would have come, by like dates: a line at this height.
    usual: i32,
    over: bool,
    label: String,
}

#[derive(Template)]
#[template(path = "parts/flow.html")]
struct FlowPart {
    bars: Vec<Bar>,
    hours: Vec<(i32, String)>,
    now: Option<i32>,
    sentences: Vec<String>,
    label: String,
    /// There are no like dates.
    usual: bool,
}

/// Width of a step and height of the picture, in its own units.
const WIDE: i32 = 14;
const HIGH: i32 = 90;

fn people(n: f64) -> String {
    format!("{n:.0}")
}

/// The flow of a date that starts at an instant.
pub(crate) fn part(flow: &Flow, starts: Timestamp, zone: &str) -> String {
    let clock = |minute: i32| {
        let at = starts + SignedDuration::from_mins(i64::from(minute));
        words::clock(words::local(at, zone).datetime())
    };
    let most =
        flow.steps.iter().map(|s| s.usual.max(s.came.map_or(0.0, f64::from))).fold(1.0, f64::max);
    #[allow(clippy::cast_possible_truncation, reason = "a height of a picture")]
    let high = |n: f64| (n / most * f64::from(HIGH)).round() as i32;
    let bars: Vec<Bar> = (0i32..)
        .zip(&flow.steps)
        .map(|(n, step)| {
            let came = high(step.came.map_or(0.0, f64::from));
            Bar {
                x: n * WIDE,
                came: (came, HIGH - came),
                usual: HIGH - high(step.usual),
                over: step.came.is_some(),
                label: format!(
                    "{}: {} came, usually {}",
                    clock(step.from),
                    step.came.map_or_else(|| "nobody yet".into(), |n| n.to_string()),
                    people(step.usual)
                ),
            }
        })
        .collect();
    let hours = (0i32..)
        .zip(&flow.steps)
        .filter(|(_, s)| s.from.rem_euclid(30) == 0)
        .map(|(n, s)| (n * WIDE, clock(s.from)))
        .collect();
    let now = flow.steps.iter().filter(|s| s.came.is_some()).count();
    let mut sentences = Vec::new();
    let (low, high) = flow.between;
    sentences.push(match flow.to_come < 0.5 {
        true => "Nobody more is to be expected.".into(),
        false => format!(
            "About {} are still to come; between {low} and {high} are likely.",
            people(flow.to_come)
        ),
    });
    if flow.to_come >= 0.5 {
        let lanes = match flow.lanes_needed {
            1 => "One lane keeps".into(),
            n => format!("{n} lanes keep"),
        };
        sentences.push(format!(
            "At the most {} a minute. {lanes} the wait of nine in ten under three minutes, at {} seconds a scan.",
            format_args!("{:.1}", flow.peak),
            format_args!("{:.0}", flow.scan)
        ));
        sentences.push(match flow.wait {
            None => "The lanes at work now would not keep up: open another.".into(),
            Some(wait) if wait < 0.25 => "With the lanes at work now hardly anybody waits.".into(),
            Some(wait) => format!(
                "With the lanes at work now nine in ten wait less than {:.1} minutes.",
                wait
            ),
        });
        if let Some(minute) = flow.all_in {
            sentences.push(format!("All will be in by about {}.", clock(minute)));
        }
    }
    sentences.push(match flow.rests_on {
        0 => "No like date has been yet: this rests on a usual evening.".into(),
        1 => "This rests on one like date.".into(),
        n => format!("This rests on {n} like dates."),
    });
    let now = (now > 0).then(|| i32::try_from(now).unwrap_or(0) * WIDE);
    let label = format!("Arrivals every {STEP} minutes: those who came, and those of like dates");
    FlowPart { bars, hours, now, sentences, label, usual: flow.rests_on == 0 }
        .render()
        .unwrap_or_default()
}
