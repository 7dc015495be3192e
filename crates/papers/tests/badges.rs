//! Badges are rendered and measured: nothing over an edge, names whole, codes read.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]
#![allow(clippy::cast_possible_truncation, reason = "dots of a picture")]

use std::path::Path;
use std::process::Command;

use jiff::Timestamp;
use matricle_core::words::codes::TicketCode;
use matricle_papers::{Badge, Badges, Barcodes, List, Sheet, badges, list, without_glyph};

/// Dots a millimetre at 150 dpi.
const DOTS: f32 = 150.0 / 25.4;
/// How far off the sheet's measures a badge may be, in millimetres.
const OFF: f32 = 0.5;

const NAMES: [&str; 12] = [
    "Jo Li",
    "Siân O'Hara",
    "Maximiliana-Theodora von Hohenfels-Winterbourne",
    "Wolfeschlegelsteinhausenbergerdorff",
    "Anne-Marie Elisabeth van der Westhuizen-Oberholzer",
    "عبد الرحمن السيد",
    "김하늘",
    "สมชาย ใจดี",
    "Ольга Ковальчук",
    "Ελένη Παπαδοπούλου",
    "Łukasz Żółć",
    "R",
];

fn code(n: usize) -> TicketCode {
    TicketCode::from_random((n as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15))
}

/// A QR code with error correction M, as on tickets.
fn square(text: &str) -> Barcodes {
    let symbol = qrcode::QrCode::with_error_correction_level(text, qrcode::EcLevel::M).unwrap();
    let side = symbol.width();
    let square = symbol.into_colors().into_iter().map(|c| c == qrcode::Color::Dark).collect();
    Barcodes { side, square, bars: Vec::new() }
}

fn all(sheet: Sheet, from: u32) -> Badges {
    let people = NAMES
        .iter()
        .enumerate()
        .map(|(n, name)| Badge {
            name: (*name).into(),
            function: if n % 2 == 0 { "Ostrel Vale Beekeepers, treasurer" } else { "" }.into(),
            ticket: ["Member", "Visitor", "Pair at one lens with a grown-up"][n % 3].into(),
            band: u8::try_from(n % 3).unwrap(),
            back: vec!["10:00 Wax, upper room".into()],
            code: code(n).to_string(),
            barcodes: square(code(n).as_str()),
        })
        .collect();
    Badges {
        house: "Ostrel Vale Beekeepers".into(),
        title: "The yearly convention of all branches".into(),
        when: "Sat 12 December".into(),
        sheet,
        from,
        with_code: true,
        people,
    }
}

fn pages(pdf: &[u8], folder: &Path) -> Vec<image::GrayImage> {
    let file = folder.join("badges.pdf");
    std::fs::write(&file, pdf).unwrap();
    let done = Command::new("pdftoppm")
        .args(["-r", "150", "-gray", "-png"])
        .arg(&file)
        .arg(folder.join("page"))
        .status();
    assert!(done.unwrap().success(), "pdftoppm draws it; scripts/test installs poppler-utils");
    let mut files: Vec<_> = std::fs::read_dir(folder)
        .unwrap()
        .map(|f| f.unwrap().path())
        .filter(|p| p.extension().is_some_and(|e| e == "png"))
        .collect();
    files.sort();
    files.iter().map(|f| image::open(f).unwrap().into_luma8()).collect()
}

#[test]
fn nothing_is_over_an_edge_and_every_code_is_read_from_the_rendering() {
    let a4 = (210.0, 297.0);
    let labels = Sheet {
        page: a4,
        badge: (63.5, 38.1),
        places: (3, 7),
        first: (7.2, 15.15),
        step: (66.04, 38.1),
        folded: false,
    };
    let sheets = [
        Sheet::middle(a4, (90.0, 65.0), (2, 4)),
        labels,
        Sheet::single(62.0, 100.0),
        Sheet::in_four(210.0, 297.0),
    ];
    for sheet in sheets {
        assert_eq!(sheet.fault(), None, "{sheet:?}");
        let folder = tempfile::tempdir().unwrap();
        let from = if sheet.on_a_page() > 1 { 3 } else { 0 };
        let drawn = badges(&all(sheet, from), Timestamp::UNIX_EPOCH).unwrap();
        let pages = pages(&drawn, folder.path());
        let needed = (NAMES.len() as u32 + from).div_ceil(sheet.on_a_page());
        assert_eq!(pages.len(), needed as usize, "{sheet:?}");
        let mut read = Vec::new();
        for (n, page) in pages.iter().enumerate() {
            let (across, down) = (
                f32::from(u16::try_from(page.width()).unwrap()) / DOTS,
                f32::from(u16::try_from(page.height()).unwrap()) / DOTS,
            );
            assert!(
                (across - sheet.page.0).abs() < OFF && (down - sheet.page.1).abs() < OFF,
                "{across} × {down}"
            );
            // Whatever is dark lies on a badge that somebody has.
            let first = if n == 0 { from } else { 0 };
            let taken = (first..sheet.on_a_page()).map(|place| sheet.place(place));
            let taken: Vec<_> = taken.collect();
            for (x, y, dot) in page.enumerate_pixels().filter(|_| !sheet.folded) {
                if dot.0[0] > 200 {
                    continue;
                }
                let at = (
                    f32::from(u16::try_from(x).unwrap()) / DOTS,
                    f32::from(u16::try_from(y).unwrap()) / DOTS,
                );
                let on = taken.iter().any(|(left, top)| {
                    at.0 >= left - OFF
                        && at.0 <= left + sheet.badge.0 + OFF
                        && at.1 >= top - OFF
                        && at.1 <= top + sheet.badge.1 + OFF
                });
                assert!(on, "{sheet:?}: a dot at {at:?} mm lies on no badge");
            }
            // Each is held to a scanner by itself.
            for (left, top) in taken {
                let dots = |mm: f32| {
                    u32::try_from((mm * DOTS).max(0.0).round() as i64).unwrap_or_default()
                };
                let (w, h) = (dots(sheet.badge.0), dots(sheet.badge.1));
                let (x, y) = (dots(left), dots(top));
                let (w, h) = (w.min(page.width() - x), h.min(page.height() - y));
                // It points at the code, in the lower right; nearer and farther, as a hand does.
                let (x, y, w, h) = (x + w / 2, y + h * 2 / 5, w / 2, h * 3 / 5);
                read.extend([1usize, 2, 3].into_iter().find_map(|near| {
                    let dot = |dx: usize, dy: usize| {
                        let at = |n: usize, from: u32| (n / near) as u32 + from;
                        page.get_pixel(at(dx, x), at(dy, y)).0[0]
                    };
                    let (wide, high) = (w as usize * near, h as usize * near);
                    let mut image = rqrr::PreparedImage::prepare_from_greyscale(wide, high, dot);
                    let grids = image.detect_grids();
                    grids.iter().find_map(|g| g.decode().ok()).map(|(_, text)| text)
                }));
            }
        }
        read.sort();
        let mut expected: Vec<_> = (0..NAMES.len()).map(|n| code(n).as_str().to_owned()).collect();
        expected.sort();
        assert_eq!(read, expected, "{sheet:?}");
    }
}

#[test]
fn names_are_never_cut_and_stand_within_their_badge() {
    let sheet = Sheet {
        page: (210.0, 297.0),
        badge: (63.5, 38.1),
        places: (3, 7),
        first: (7.2, 15.15),
        step: (66.04, 38.1),
        folded: false,
    };
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("badges.pdf");
    std::fs::write(&file, badges(&all(sheet, 0), Timestamp::UNIX_EPOCH).unwrap()).unwrap();
    let out = Command::new("pdftotext").args(["-bbox"]).arg(&file).arg("-").output().unwrap();
    let text = String::from_utf8(out.stdout).unwrap();
    let mm = |line: &str, name: &str| {
        let rest = line.split(&format!("{name}=\"")).nth(1)?;
        rest.split('"').next()?.parse::<f32>().ok().map(|points| points * 25.4 / 72.0)
    };
    let words: Vec<(f32, f32, f32, f32, String)> = text
        .lines()
        .filter(|l| l.contains("<word"))
        .filter_map(|l| {
            let word = l
                .split('>')
                .nth(1)?
                .split('<')
                .next()?
                .replace("&apos;", "'")
                .replace("&#39;", "'");
            Some((mm(l, "xMin")?, mm(l, "yMin")?, mm(l, "xMax")?, mm(l, "yMax")?, word))
        })
        .collect();
    for (n, name) in NAMES.iter().enumerate() {
        let (left, top) = sheet.place(u32::try_from(n).unwrap());
        let on: Vec<&str> = words
            .iter()
            // Of text that tells its own words the reader gives where it begins, from below.
            .filter(|w| {
                let y = 297.0 - w.1;
                w.0 >= left - OFF
                    && w.0 <= left + sheet.badge.0
                    && y >= top - OFF
                    && y <= top + sheet.badge.1 + OFF
            })
            .flat_map(|w| w.4.split(' '))
            .collect();
        // Scripts that run from right to left are turned round by the reader; the dots were
        // looked at above.
        if name.chars().any(|c| matches!(c, '\u{590}'..='\u{6ff}' | '\u{e00}'..='\u{e7f}' | '\u{1100}'..='\u{d7ff}')) {
            continue;
        }
        for word in name.split(' ') {
            assert!(on.contains(&word), "{name}: {word} is cut or off its badge: {on:?}");
        }
    }
    assert!(NAMES.iter().all(|n| without_glyph(n).is_empty()), "our fonts have them all");
}

#[test]
fn measures_that_cannot_be_are_refused() {
    let good = Sheet::middle((210.0, 297.0), (90.0, 65.0), (2, 4));
    for (bad, why) in [
        (Sheet { badge: (5.0, 5.0), ..good }, "at least"),
        (Sheet { first: (40.0, 18.0), ..good }, "past the edge"),
        (Sheet { step: (60.0, 65.0), ..good }, "on one another"),
        (Sheet { places: (0, 4), ..good }, "places"),
        (Sheet { page: (f32::NAN, 297.0), ..good }, "at least"),
    ] {
        assert!(bad.fault().unwrap().contains(why), "{bad:?}: {:?}", bad.fault());
    }
}

#[test]
fn a_list_of_many_goes_over_pages_with_its_head_on_each_and_loses_nobody() {
    let rows: Vec<_> = (0..120)
        .map(|n| {
            (
                if n < 60 { "Member" } else { "Visitor" }.to_owned(),
                vec![format!("Person{n:03} Marsh"), "Member".into(), "no nuts\nno milk".into()],
            )
        })
        .collect();
    let sheet = List {
        house: "Club".into(),
        kind: "Who comes".into(),
        title: "Candles".into(),
        when: "today".into(),
        says: "120 people".into(),
        boxes: true,
        columns: vec![("Name".into(), 3.0), ("Ticket".into(), 1.0), ("What to avoid".into(), 2.0)],
        rows,
    };
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("list.pdf");
    std::fs::write(&file, list(&sheet, Timestamp::UNIX_EPOCH).unwrap()).unwrap();
    let out = Command::new("pdftotext").args(["-layout"]).arg(&file).arg("-").output().unwrap();
    let text = String::from_utf8(out.stdout).unwrap();
    let pages: Vec<&str> = text.split('\u{c}').filter(|p| !p.trim().is_empty()).collect();
    assert!(pages.len() > 3, "{}", pages.len());
    assert!(pages.iter().all(|p| p.contains("What to avoid")), "the head stands on each");
    for n in 0..120 {
        assert_eq!(text.matches(&format!("Person{n:03}")).count(), 1, "{n}");
    }
}
