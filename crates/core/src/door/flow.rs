//! The flow at a door: who is still to come, when, how many lanes that takes, when all are in.
//!
//! Arrivals follow a curve: of those who come at all, the share that has come by each minute
//! before or after the start. The curve and the share of those expected who come at all are taken
//! from like dates; without any, from a usual one that counts for little as soon as there are
//! others. The wait at the lanes is that of a queue with arrivals at random and lanes alike
//! (M/M/c; A. K. Erlang, 1917).

/// Minutes of one step of the curve.
pub const STEP: i32 = 5;
/// The curve begins so many minutes before the start, and ends so many after it.
pub const BEGINS: i32 = -90;
/// See [`BEGINS`].
pub const ENDS: i32 = 90;
const STEPS: usize = ((ENDS - BEGINS) / STEP) as usize;

/// The usual share of those who come that has come by so many minutes after the start.
const USUAL: [(i32, f64); 9] = [
    (-90, 0.0),
    (-60, 0.02),
    (-30, 0.13),
    (-20, 0.27),
    (-10, 0.53),
    (0, 0.80),
    (10, 0.92),
    (30, 0.98),
    (90, 1.0),
];
/// What the usual curve weighs, in people.
const WEIGHT: f64 = 20.0;
/// The usual share of those expected who come, and what it weighs, in people.
const COMES: (f64, f64) = (0.90, 20.0);
/// One date tells no more about how many come to another than so many people do: evenings
/// differ from one another by more than chance.
const ONE_DATE: f64 = 40.0;
/// Seconds that a scan takes where nothing was measured.
const SCAN: f64 = 6.0;

/// A date that was like this one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Like {
    /// People expected then.
    pub expected: u32,
    /// When each one came, in minutes after the start.
    pub came: Vec<i32>,
}

/// How things stand now.
#[derive(Debug, Clone, PartialEq)]
pub struct Now {
    /// People expected.
    pub expected: u32,
    /// When each one came so far, in minutes after the start.
    pub came: Vec<i32>,
    /// The minute it is, after the start.
    pub minute: i32,
    /// Seconds that a scan takes, as measured here.
    pub scan: Option<f64>,
    /// Lanes at work.
    pub lanes: u32,
    /// Nobody should wait longer than so many minutes.
    pub most_wait: f64,
}

/// A step of the evening.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Step {
    /// From which minute after the start.
    pub from: i32,
    /// People who came in it; none while it is still to come.
    pub came: Option<u32>,
    /// People who would have come, by like dates.
    pub usual: f64,
}

/// What is to be expected.
#[derive(Debug, Clone, PartialEq)]
pub struct Flow {
    /// The evening in steps of [`STEP`] minutes.
    pub steps: Vec<Step>,
    /// People still to come.
    pub to_come: f64,
    /// In eight of ten cases not fewer and not more than these come.
    pub between: (u32, u32),
    /// The most people a minute that are still to be expected.
    pub peak: f64,
    /// Lanes that keep the wait of nine in ten under the bound.
    pub lanes_needed: u32,
    /// What nine in ten wait no longer than with the lanes at work, in minutes; none where they
    /// cannot keep up.
    pub wait: Option<f64>,
    /// The minute after the start by which all but one are in; none where that is so already.
    pub all_in: Option<i32>,
    /// Seconds that a scan takes, as it was reckoned with.
    pub scan: f64,
    /// Like dates that this rests on.
    pub rests_on: usize,
}

/// The share that has come by a minute, along a curve of straight pieces.
fn usual(minute: i32) -> f64 {
    let at = f64::from(minute);
    let pieces = USUAL.windows(2).find_map(|w| {
        let ((m0, s0), (m1, s1)) = (w[0], w[1]);
        (minute <= m1).then(|| s0 + (s1 - s0) * (at - f64::from(m0)) / f64::from(m1 - m0))
    });
    pieces.unwrap_or(1.0).clamp(0.0, 1.0)
}

/// The step that a minute falls in, and the minute it begins with.
fn step_of(minute: i32) -> usize {
    usize::try_from((minute.clamp(BEGINS, ENDS - 1) - BEGINS) / STEP).unwrap_or(0)
}

fn begins(step: usize) -> i32 {
    BEGINS + STEP * i32::try_from(step).unwrap_or(0)
}

/// The share of those who come that comes in each step.
fn curve(like: &[Like]) -> Vec<f64> {
    let mut people = vec![0.0; STEPS];
    for (step, share) in people.iter_mut().enumerate() {
        *share = WEIGHT * (usual(begins(step) + STEP) - usual(begins(step)));
    }
    for minute in like.iter().flat_map(|l| &l.came) {
        people[step_of(*minute)] += 1.0;
    }
    let all: f64 = people.iter().sum();
    people.into_iter().map(|n| n / all).collect()
}

/// The mean share of those expected who come, and its standard deviation (Beta).
fn comes(like: &[Like]) -> (f64, f64) {
    let (mut yes, mut weight) = (COMES.0 * COMES.1, COMES.1);
    for date in like.iter().filter(|l| l.expected > 0) {
        let expected = f64::from(date.expected);
        let share =
            (f64::from(u32::try_from(date.came.len()).unwrap_or(u32::MAX)) / expected).min(1.0);
        let counts = expected.min(ONE_DATE);
        yes += share * counts;
        weight += counts;
    }
    let mean = yes / weight;
    (mean, (mean * (1.0 - mean) / (weight + 1.0)).sqrt())
}

/// The chance that somebody who arrives has to wait, for `load` erlangs on so many lanes
/// (Erlang's C formula); certain where the lanes cannot keep up.
#[must_use]
pub fn has_to_wait(load: f64, lanes: u32) -> f64 {
    if lanes == 0 || load >= f64::from(lanes) {
        return 1.0;
    }
    // Erlang's B, lane by lane, then C.
    let blocked = (1..=lanes).fold(1.0, |b, n| load * b / (f64::from(n) + load * b));
    let (lanes, rest) = (f64::from(lanes), 1.0 - blocked);
    blocked / (1.0 - load / lanes * rest)
}

/// What nine in ten of those who come wait no longer than, in minutes; none where the lanes
/// cannot keep up. `rate` is people a minute, `scan` seconds.
#[must_use]
pub fn wait(rate: f64, scan: f64, lanes: u32) -> Option<f64> {
    let load = rate * scan / 60.0;
    if lanes == 0 || load >= f64::from(lanes) {
        return None;
    }
    let waits = has_to_wait(load, lanes);
    let pace = f64::from(lanes) * 60.0 / scan - rate;
    Some(if waits <= 0.1 { 0.0 } else { (waits / 0.1).ln() / pace })
}

/// What is to be expected from here on.
#[must_use]
pub fn flow(like: &[Like], now: &Now) -> Flow {
    let curve = curve(like);
    let (share, spread) = comes(like);
    let came = u32::try_from(now.came.len()).unwrap_or(u32::MAX);
    let rest = f64::from(now.expected.saturating_sub(came));
    let at = step_of(now.minute);
    // Of the step it is, what is over is over.
    let within =
        (f64::from(now.minute.clamp(BEGINS, ENDS) - begins(at)) / f64::from(STEP)).clamp(0.0, 1.0);
    let ahead = |step: usize| match step {
        s if s < at => 0.0,
        s if s == at => curve[s] * (1.0 - within),
        s => curve[s],
    };
    let left: f64 = if now.minute >= ENDS { 0.0 } else { (0..STEPS).map(ahead).sum() };
    // Somebody who is not here yet comes by Bayes' rule: they come at all, and not before now.
    let still = |share: f64| {
        let not_yet = share * left + (1.0 - share);
        if not_yet <= 0.0 { 0.0 } else { share * left / not_yet }
    };
    let p = still(share);
    let by_share = (still((share + spread).min(1.0)) - still((share - spread).max(0.0))) / 2.0;
    let deviation = (rest * p * (1.0 - p) + (rest * by_share).powi(2)).sqrt();
    let to_come = rest * p;
    // Eight of ten lie within 1.2816 standard deviations of a normal distribution.
    let bound = |n: f64| whole(n.clamp(0.0, rest));
    let between = (
        bound((to_come - 1.2816 * deviation).floor()),
        bound((to_come + 1.2816 * deviation).ceil()),
    );
    let per_step = |step: usize| if left > 0.0 { to_come * ahead(step) / left } else { 0.0 };
    let peak = (at..STEPS).map(per_step).fold(0.0, f64::max) / f64::from(STEP);
    let scan = now.scan.unwrap_or(SCAN).max(0.5);
    let lanes_needed = (1..=100)
        .find(|lanes| wait(peak, scan, *lanes).is_some_and(|w| w <= now.most_wait))
        .unwrap_or(100);
    let steps = (0..STEPS)
        .map(|step| {
            let from = begins(step);
            let in_it = now.came.iter().filter(|m| step_of(**m) == step).count();
            let came = (from <= now.minute).then(|| u32::try_from(in_it).unwrap_or(u32::MAX));
            Step { from, came, usual: f64::from(now.expected) * share * curve[step] }
        })
        .collect();
    Flow {
        steps,
        to_come,
        between,
        peak,
        lanes_needed,
        wait: wait(peak, scan, now.lanes),
        all_in: all_in((at, now.minute), to_come, &per_step, 60.0 / scan * f64::from(now.lanes)),
        scan,
        rests_on: like.len(),
    }
}

/// A count of people that is not below nought.
fn whole(n: f64) -> u32 {
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it is clamped")]
    let n = n.clamp(0.0, f64::from(u32::MAX)) as u32;
    n
}

/// The minute by which all but one are in, at the pace of the curve and of the lanes.
fn all_in(
    (at, minute): (usize, i32),
    to_come: f64,
    per_step: &impl Fn(usize) -> f64,
    pace: f64,
) -> Option<i32> {
    if to_come < 1.0 {
        return None;
    }
    let (mut in_line, mut missing) = (0.0, to_come);
    for step in at..STEPS {
        let minutes = f64::from(begins(step) + STEP - minute.max(begins(step)));
        in_line += per_step(step);
        let through = in_line.min(pace * minutes);
        in_line -= through;
        missing -= through;
        if missing < 1.0 {
            return Some(begins(step) + STEP);
        }
    }
    (pace > 0.0).then(|| ENDS + i32::try_from(whole((missing / pace).ceil())).unwrap_or(0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn now(expected: u32, came: Vec<i32>, minute: i32) -> Now {
        Now { expected, came, minute, scan: Some(6.0), lanes: 1, most_wait: 3.0 }
    }

    #[test]
    fn the_wait_is_that_of_erlangs_formula() {
        // Two erlangs on three lanes: 4/9 have to wait, by the tables.
        assert!((has_to_wait(2.0, 3) - 4.0 / 9.0).abs() < 1e-9);
        assert!((has_to_wait(0.5, 1) - 0.5).abs() < 1e-9, "one lane: as busy as it is");
        assert_eq!(wait(20.0, 6.0, 1), None, "ten a minute pass, twenty come");
        // Nine a minute on one lane of ten: e^(-t)·0.9 = 0.1.
        let expected = (9.0_f64).ln();
        assert!((wait(9.0, 6.0, 1).unwrap() - expected).abs() < 1e-9);
    }

    #[test]
    fn an_evening_as_it_goes() {
        let before = flow(&[], &now(200, vec![], -90));
        assert!((before.to_come - 180.0).abs() < 1.0, "{before:?}");
        assert!(before.between.0 < 180 && before.between.1 > 180);
        assert_eq!((before.lanes_needed, before.wait), (1, Some(before.wait.unwrap())));
        let busy = flow(&[], &now(2000, vec![], -30));
        assert!(busy.lanes_needed > 4 && busy.wait.is_none(), "{busy:?}");
        // Half an hour in, few more come, and fewer are promised.
        let late = flow(&[], &now(200, vec![-10; 170], 30));
        assert!(late.to_come < 6.0 && late.between.0 == 0, "{late:?}");
        assert_eq!(flow(&[], &now(10, vec![-5; 10], 0)).all_in, None);
        // Where everybody came early and all of them, that is expected again.
        let like = vec![Like { expected: 100, came: vec![-40; 100] }; 6];
        let usual = flow(&like, &now(100, vec![], -60));
        assert!(usual.to_come > 95.0 && usual.steps[step_of(-40)].usual > 80.0, "{usual:?}");
        assert!(flow(&like, &now(100, vec![-40; 80], -20)).to_come < 16.0);
    }

    proptest! {
        /// Nobody is expected who is not missing, the interval holds the mean, more lanes never
        /// make the wait longer, and what came is counted once.
        #[test]
        fn it_holds_together(
            expected in 0u32..3000, came in prop::collection::vec(-100i32..100, 0..60),
            minute in -120i32..120, scan in 1.0f64..30.0, lanes in 1u32..8,
        ) {
            let came: Vec<i32> = came.into_iter().filter(|m| *m <= minute).collect();
            let here = Now { expected, came: came.clone(), minute, scan: Some(scan), lanes, most_wait: 2.0 };
            let told = flow(&[], &here);
            let rest = expected.saturating_sub(u32::try_from(came.len()).unwrap());
            prop_assert!(told.to_come >= 0.0 && told.to_come <= f64::from(rest) + 1e-6);
            prop_assert!(f64::from(told.between.0) <= told.to_come + 1e-6 && told.to_come <= f64::from(told.between.1) + 1e-6);
            prop_assert!(told.between.1 <= rest);
            let counted: u32 = told.steps.iter().filter_map(|s| s.came).sum();
            prop_assert_eq!(counted as usize, came.iter().filter(|m| begins(step_of(**m)) <= minute).count());
            if let (Some(few), Some(more)) = (wait(told.peak, scan, lanes), wait(told.peak, scan, lanes + 1)) {
                prop_assert!(more <= few + 1e-9);
            }
            if told.lanes_needed < 100 {
                prop_assert!(wait(told.peak, scan, told.lanes_needed).unwrap() <= 2.0);
            }
        }
    }
}
