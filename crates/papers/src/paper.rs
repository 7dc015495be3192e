//! The ground every paper stands on. Lengths are points, 1/72 inch; y grows downwards.

use std::borrow::Cow;
use std::collections::HashMap;
use std::num::NonZeroU16;
use std::sync::OnceLock;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use krilla::color::rgb;
use krilla::configure::{Accessibility, Archival, Configuration, ConfigurationBuilder};
use krilla::destination::XyzDestination;
use krilla::error::KrillaError;
use krilla::geom::{PathBuilder, Point, Rect};
use krilla::metadata::{DateTime, Metadata};
use krilla::num::NormalizedF32;
use krilla::outline::{Outline, OutlineNode};
use krilla::page::PageSettings;
use krilla::paint::{Fill, Stroke, StrokeDash};
use krilla::surface::Surface;
use krilla::tagging::{
    Artifact, ArtifactType, ContentTag, SpanTag, Tag, TagGroup, TagKind, TagTree,
};
use krilla::text::{Font, GlyphId, KrillaGlyph};
use krilla::{Document, SerializeSettings};
use parley::fontique::{Blob, Collection, CollectionOptions, SourceCache};
use parley::layout::{Alignment, Layout};
use parley::style::{
    FontFamily, FontFamilyName, FontWeight, LineHeight, OverflowWrap, StyleProperty,
};
use parley::{FontContext, LayoutContext};
use unicode_normalization::UnicodeNormalization;

/// Lines, grounds and barcodes are no part of what is read: the code stands below in letters.
const DECORATION: ContentTag<'static> =
    ContentTag::Artifact(Artifact { kind: ArtifactType::Layout, bbox: None });

/// A4 and its halves are 1 : √2; one millimetre in points.
pub(crate) const MM: f32 = 72.0 / 25.4;

/// Why a paper could not be drawn.
#[derive(Debug, thiserror::Error)]
pub enum PaperError {
    /// A page of no size.
    #[error("a page of {width} × {height} points")]
    PageSize {
        /// Its width.
        width: f32,
        /// Its height.
        height: f32,
    },
    /// What is on it keeps it from the standards for what everybody can read, and for long.
    #[error("the PDF cannot keep to its standards: {0}")]
    Standard(String),
    /// The PDF writer refused.
    #[error("the PDF could not be written: {0}")]
    Writer(String),
}

/// What a document keeps to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Standard {
    /// PDF/UA-1 (ISO 14289-1), read by everybody, and PDF/A-2a (ISO 19005-2), kept for long. Its
    /// title stands in the title bar.
    Kept,
    /// PDF 1.7 with tags: for names with letters that no font of ours has.
    Plain,
}

impl Standard {
    fn configuration(self) -> Configuration {
        let kept = || {
            ConfigurationBuilder::new()
                .with_archival_validator(Archival::A2_A)
                .with_accessibility_validator(Accessibility::UA1)
                .finish()
                .ok()
        };
        match self {
            Self::Kept => kept().unwrap_or_default(),
            Self::Plain => Configuration::default(),
        }
    }
}

/// Draws a document that keeps to its standards, and once more without them where a letter of a
/// name is in no font of ours: nobody goes without a ticket for that.
pub(crate) fn drawn(
    draw: impl Fn(Standard) -> Result<Vec<u8>, PaperError>,
) -> Result<Vec<u8>, PaperError> {
    match draw(Standard::Kept) {
        Err(PaperError::Standard(_)) => draw(Standard::Plain),
        drawn => drawn,
    }
}

/// A colour of the pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum Ink {
    #[default]
    Text,
    Soft,
    Paper,
    Card,
    Brass,
    Bronze,
    Rule,
    Black,
    White,
    /// The band of a ticket type; there are eight, and each has its word beside it.
    Band(u8),
}

/// Colours of bands, all dark enough for white words on them (7 : 1 and more); none is the red of
/// what is wrong.
const BANDS: [(u8, u8, u8); 8] = [
    (0x14, 0x43, 0x2f),
    (0x1f, 0x3a, 0x5f),
    (0x5c, 0x3b, 0x08),
    (0x4a, 0x24, 0x58),
    (0x0f, 0x48, 0x4c),
    (0x3d, 0x46, 0x0f),
    (0x33, 0x3a, 0x36),
    (0x6a, 0x1b, 0x46),
];

impl Ink {
    fn rgb(self) -> rgb::Color {
        let (r, g, b) = match self {
            Self::Text => (0x1c, 0x29, 0x24),
            Self::Soft => (0x5b, 0x66, 0x5f),
            Self::Paper => (0xf6, 0xf2, 0xe7),
            Self::Card => (0xff, 0xfd, 0xf7),
            Self::Brass => (0xb9, 0x85, 0x24),
            Self::Bronze => (0x7a, 0x54, 0x10),
            Self::Rule => (0xc9, 0xbf, 0xa5),
            Self::Black => (0, 0, 0),
            Self::White => (0xff, 0xff, 0xff),
            Self::Band(n) => BANDS[usize::from(n) % BANDS.len()],
        };
        rgb::Color::new(r, g, b)
    }

    fn fill(self) -> Fill {
        Fill { paint: self.rgb().into(), opacity: NormalizedF32::ONE, rule: Default::default() }
    }
}

/// A typeface of the pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Face {
    /// Besley 700: headings.
    Heading,
    /// Besley 600: the name of the house.
    Mark,
    /// Source Sans 3: everything else.
    Body,
    /// Source Sans 3, 600.
    Strong,
}

/// How a block of text is set.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Style {
    pub(crate) face: Face,
    pub(crate) size: f32,
    pub(crate) ink: Ink,
    pub(crate) align: Alignment,
    /// Extra space between letters, for codes.
    pub(crate) spacing: f32,
}

impl Style {
    pub(crate) const fn new(face: Face, size: f32, ink: Ink) -> Self {
        Self { face, size, ink, align: Alignment::Start, spacing: 0.0 }
    }

    pub(crate) const fn centred(self) -> Self {
        Self { align: Alignment::Center, ..self }
    }

    pub(crate) const fn at_end(self) -> Self {
        Self { align: Alignment::End, ..self }
    }

    pub(crate) const fn spaced(self, spacing: f32) -> Self {
        Self { spacing, ..self }
    }
}

const FILES: [&[u8]; 4] = [
    include_bytes!("../../../assets/vendor/fonts/Besley_600SemiBold.ttf"),
    include_bytes!("../../../assets/vendor/fonts/Besley_700Bold.ttf"),
    include_bytes!("../../../assets/vendor/fonts/SourceSans3_400Regular.ttf"),
    include_bytes!("../../../assets/vendor/fonts/SourceSans3_600SemiBold.ttf"),
];

/// Fonts for names in other scripts, 6.2 MiB in all, of which Droid Sans Fallback (Chinese
/// and Japanese) is 3.8 and Hangul 1.3; looked into only by a paper that has such letters, of which a
/// PDF then holds those it needs.
const SCRIPTS: [(&str, &[u8]); 12] = [
    ("Noto Sans", include_bytes!("../../../assets/vendor/scripts/NotoSans.ttf")),
    ("Noto Sans Arabic", include_bytes!("../../../assets/vendor/scripts/NotoSansArabic.ttf")),
    ("Noto Sans Hebrew", include_bytes!("../../../assets/vendor/scripts/NotoSansHebrew.ttf")),
    (
        "Noto Sans Devanagari",
        include_bytes!("../../../assets/vendor/scripts/NotoSansDevanagari.ttf"),
    ),
    ("Noto Sans Bengali", include_bytes!("../../../assets/vendor/scripts/NotoSansBengali.ttf")),
    ("Noto Sans Tamil", include_bytes!("../../../assets/vendor/scripts/NotoSansTamil.ttf")),
    ("Noto Sans Thai", include_bytes!("../../../assets/vendor/scripts/NotoSansThai.ttf")),
    ("Noto Sans Armenian", include_bytes!("../../../assets/vendor/scripts/NotoSansArmenian.ttf")),
    ("Noto Sans Georgian", include_bytes!("../../../assets/vendor/scripts/NotoSansGeorgian.ttf")),
    ("Noto Sans Ethiopic", include_bytes!("../../../assets/vendor/scripts/NotoSansEthiopic.ttf")),
    ("Matricle Hangul", include_bytes!("../../../assets/vendor/scripts/MatricleHangul.ttf")),
    ("Droid Sans Fallback", include_bytes!("../../../assets/vendor/scripts/DroidSansFallback.ttf")),
];

/// Only fonts that ship with the program, parsed once; the machine's own are not looked at.
fn collect(files: impl Iterator<Item = &'static [u8]>) -> FontContext {
    let options = CollectionOptions { system_fonts: false, ..Default::default() };
    let mut collection = Collection::new(options);
    for file in files {
        collection.register_fonts(Blob::new(std::sync::Arc::new(file)), None);
    }
    FontContext { collection, source_cache: SourceCache::default() }
}

fn fonts() -> FontContext {
    static FONTS: OnceLock<FontContext> = OnceLock::new();
    FONTS.get_or_init(|| collect(FILES.into_iter())).clone()
}

fn fonts_of_all_scripts() -> FontContext {
    static FONTS: OnceLock<FontContext> = OnceLock::new();
    let all = || FILES.into_iter().chain(SCRIPTS.iter().map(|(_, file)| *file));
    FONTS.get_or_init(|| collect(all())).clone()
}

/// Whether the two faces of the pages may lack a letter: they have Latin, Greek and Cyrillic
/// letters and common signs. Marks that stand by themselves are set with their letters by a
/// font that knows where to put them.
fn is_other_script(text: &str) -> bool {
    !text.chars().all(|c| {
        matches!(c, '\u{20}'..='\u{24f}' | '\u{370}'..='\u{3ff}' | '\u{400}'..='\u{45f}'
            | '\u{1e00}'..='\u{1eff}' | '\u{2010}'..='\u{2044}' | '\u{20ac}' | '\u{2212}' | '\n')
    })
}

/// Whether a character is drawn at all: joiners, marks of direction and variation are not.
fn is_drawn(c: char) -> bool {
    !matches!(c, '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{180b}'..='\u{180f}' | '\u{200b}'..='\u{200f}'
        | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}'
        | '\u{e0000}'..='\u{e0fff}')
        && !c.is_control()
}

/// The letters of a text that no font here has: a paper shows a box for each.
#[must_use]
pub fn without_glyph(text: &str) -> Vec<char> {
    let text: String = text.nfc().collect();
    if !is_other_script(&text) {
        return Vec::new();
    }
    let mut setter = Setter::default();
    let layout = setter.layout(&text, f32::MAX, Style::new(Face::Body, 12.0, Ink::Text));
    let mut missing = Vec::new();
    for line in layout.lines() {
        for run in line.runs() {
            for cluster in run.visual_clusters().filter(|c| c.glyphs().any(|g| g.id == 0)) {
                let letters = text.get(cluster.text_range()).unwrap_or_default();
                missing.extend(letters.chars().filter(|c| is_drawn(*c)));
            }
        }
    }
    missing.sort_unstable();
    missing.dedup();
    missing
}

/// A document being drawn.
pub(crate) struct Paper {
    document: Document,
    setter: Setter,
    /// What is read, in its order (ISO 32000-2 §14.7), a part for each page.
    tags: TagTree,
    /// Its headings, each with its page, for whoever goes through it by them.
    outline: Outline,
    pages: usize,
    title: String,
}

/// Sets text: parley shapes and breaks it, krilla embeds the glyphs.
struct Setter {
    fonts: FontContext,
    /// The fonts of all scripts, once a text needed them.
    all_fonts: Option<FontContext>,
    layouts: LayoutContext<Ink>,
    embedded: HashMap<u64, Font>,
}

impl Default for Setter {
    fn default() -> Self {
        Self {
            fonts: fonts(),
            all_fonts: None,
            layouts: LayoutContext::new(),
            embedded: HashMap::new(),
        }
    }
}

impl Paper {
    pub(crate) fn new(standard: Standard, title: &str, author: &str, made_at: Timestamp) -> Self {
        let mut document = Document::new_with(SerializeSettings {
            configuration: standard.configuration(),
            ..SerializeSettings::default()
        });
        document.set_metadata(
            Metadata::new()
                .title(title.into())
                .authors(vec![author.into()])
                .creator("Matricle".into())
                .language("en-GB".into())
                .creation_date(date_time(made_at)),
        );
        let tags = TagTree::new().with_lang(Some("en-GB".into()));
        Self {
            document,
            setter: Setter::default(),
            tags,
            outline: Outline::new(),
            pages: 0,
            title: title.to_owned(),
        }
    }

    /// Adds a page and lets `draw` draw it.
    pub(crate) fn page(
        &mut self,
        width: f32,
        height: f32,
        draw: impl FnOnce(&mut Pen<'_, '_>),
    ) -> Result<(), PaperError> {
        let settings =
            PageSettings::from_wh(width, height).ok_or(PaperError::PageSize { width, height })?;
        let mut page = self.document.start_page_with(settings);
        let mut surface = page.surface();
        let mut read = TagGroup::new(Tag::Part);
        let mut heading = None;
        draw(&mut Pen {
            surface: &mut surface,
            setter: &mut self.setter,
            read: &mut read,
            heading: &mut heading,
        });
        surface.finish();
        page.finish();
        self.tags.push(read);
        let title = heading.or_else(|| (self.pages == 0).then(|| self.title.clone()));
        if let Some(title) = title {
            let top = XyzDestination::new(self.pages, Point::from_xy(0.0, 0.0));
            self.outline.push_child(OutlineNode::new(title, top));
        }
        self.pages += 1;
        Ok(())
    }

    pub(crate) fn finish(mut self) -> Result<Vec<u8>, PaperError> {
        self.document.set_tag_tree(self.tags);
        self.document.set_outline(self.outline);
        self.document.finish().map_err(|error| match error {
            KrillaError::Validation(wrong) => PaperError::Standard(format!("{wrong:?}")),
            error => PaperError::Writer(format!("{error:?}")),
        })
    }
}

fn date_time(at: Timestamp) -> DateTime {
    let at = at.to_zoned_datetime(TimeZone::UTC);
    let part = |n: i8| u8::try_from(n).unwrap_or(0);
    DateTime::new(u16::try_from(at.year()).unwrap_or(0))
        .month(part(at.month()))
        .day(part(at.day()))
        .hour(part(at.hour()))
        .minute(part(at.minute()))
        .second(part(at.second()))
        .utc_offset_hour(0)
        .utc_offset_minute(0)
}

/// Draws on one page.
pub(crate) struct Pen<'p, 's> {
    surface: &'p mut Surface<'s>,
    setter: &'p mut Setter,
    read: &'p mut TagGroup,
    /// The first heading of the page.
    heading: &'p mut Option<String>,
}

impl Pen<'_, '_> {
    /// Fills a rectangle.
    pub(crate) fn block(&mut self, x: f32, y: f32, width: f32, height: f32, ink: Ink) {
        let Some(rect) = Rect::from_xywh(x, y, width, height) else { return };
        let mut path = PathBuilder::new();
        path.push_rect(rect);
        self.fill(path, ink);
    }

    /// Fills many rectangles of one colour as one path: the modules of a barcode.
    pub(crate) fn blocks(&mut self, rects: impl Iterator<Item = (f32, f32, f32, f32)>, ink: Ink) {
        let mut path = PathBuilder::new();
        for (x, y, width, height) in rects {
            if let Some(rect) = Rect::from_xywh(x, y, width, height) {
                path.push_rect(rect);
            }
        }
        self.fill(path, ink);
    }

    fn fill(&mut self, path: PathBuilder, ink: Ink) {
        if let Some(path) = path.finish() {
            self.surface.start_tagged(DECORATION);
            self.surface.set_stroke(None);
            self.surface.set_fill(Some(ink.fill()));
            self.surface.draw_path(&path);
            self.surface.end_tagged();
        }
    }

    /// Draws a line; dotted like a perforation when `dots` is given.
    pub(crate) fn line(
        &mut self,
        from: (f32, f32),
        to: (f32, f32),
        width: f32,
        dots: Option<f32>,
        ink: Ink,
    ) {
        let mut path = PathBuilder::new();
        path.move_to(from.0, from.1);
        path.line_to(to.0, to.1);
        let Some(path) = path.finish() else { return };
        let dash = dots.map(|gap| StrokeDash { array: vec![width, gap], offset: 0.0 });
        self.surface.start_tagged(DECORATION);
        self.surface.set_fill(None);
        self.surface.set_stroke(Some(Stroke {
            paint: ink.rgb().into(),
            width,
            dash,
            ..Default::default()
        }));
        self.surface.draw_path(&path);
        self.surface.set_stroke(None);
        self.surface.end_tagged();
    }

    /// The mark of Matricle, `size` high and wide: a ticket with a tick.
    pub(crate) fn mark(&mut self, x: f32, y: f32, size: f32) {
        let s = size / 24.0;
        let at = |px: f32, py: f32| (x + px * s, y + py * s);
        let mut path = PathBuilder::new();
        let m = |p: &mut PathBuilder, (px, py): (f32, f32)| p.line_to(px, py);
        let start = at(3.0, 5.5);
        path.move_to(start.0, start.1);
        m(&mut path, at(21.0, 5.5));
        m(&mut path, at(21.0, 9.5));
        let (a, b, c) = (at(18.5, 9.8), at(18.5, 14.2), at(21.0, 14.5));
        path.cubic_to(a.0, a.1, b.0, b.1, c.0, c.1);
        m(&mut path, at(21.0, 18.5));
        m(&mut path, at(3.0, 18.5));
        m(&mut path, at(3.0, 14.5));
        let (a, b, c) = (at(5.5, 14.2), at(5.5, 9.8), at(3.0, 9.5));
        path.cubic_to(a.0, a.1, b.0, b.1, c.0, c.1);
        path.close();
        self.fill(path, Ink::Brass);
        self.line(at(8.0, 12.2), at(10.8, 15.0), 2.2 * s, None, Ink::Text);
        self.line(at(10.8, 15.0), at(16.2, 9.4), 2.2 * s, None, Ink::Text);
    }

    /// Sets a block of text no wider than `width`; returns its height. The first
    /// size of `style` downwards that needs at most `lines` lines is taken; of what is too long
    /// even then, as much is set as there is room for.
    pub(crate) fn text(
        &mut self,
        x: f32,
        y: f32,
        width: f32,
        text: &str,
        style: Style,
        lines: usize,
    ) -> f32 {
        // Letters and their marks in one, where Unicode has such a one (UAX #15).
        let text = &text.nfc().collect::<String>();
        let mut style = style;
        let mut layout = self.setter.layout(text, width, style);
        while layout.len() > lines && style.size > 4.5 {
            style.size *= 0.92;
            layout = self.setter.layout(text, width, style);
        }
        let all = layout.height() / f32::from(u16::try_from(layout.len().max(1)).unwrap_or(1));
        let shown = layout.len().min(lines);
        let tag = match style.face {
            Face::Heading => {
                self.heading.get_or_insert_with(|| text.clone());
                TagKind::from(Tag::Hn(NonZeroU16::MIN, Some(text.clone())))
            }
            _ => TagKind::from(Tag::P),
        };
        let mut block = TagGroup::new(tag);
        self.setter.draw(self.surface, &layout, text, (x, y), shown, &mut block);
        if !block.children.is_empty() {
            self.read.push(block);
        }
        all * f32::from(u16::try_from(shown).unwrap_or(1))
    }
}

impl Pen<'_, '_> {
    /// Draws what stands on its head on a page of this size: the other side of what is folded.
    pub(crate) fn upside_down(&mut self, (w, h): (f32, f32), draw: impl FnOnce(&mut Self)) {
        self.surface.push_transform(&krilla::geom::Transform::from_row(-1.0, 0.0, 0.0, -1.0, w, h));
        draw(self);
        self.surface.pop();
    }

    /// How wide a text is on one line.
    pub(crate) fn width(&mut self, text: &str, style: Style) -> f32 {
        let text = text.nfc().collect::<String>();
        self.setter.layout(&text, f32::MAX, Style { align: Alignment::Start, ..style }).width()
    }

    /// How high [`Pen::text`] would be.
    pub(crate) fn height(&mut self, width: f32, text: &str, style: Style, lines: usize) -> f32 {
        let text = text.nfc().collect::<String>();
        let layout = self.setter.layout(&text, width, style);
        let each = layout.height() / f32::from(u16::try_from(layout.len().max(1)).unwrap_or(1));
        each * f32::from(u16::try_from(layout.len().min(lines)).unwrap_or(1))
    }

    /// Sets a name as large as it fits into a box, whole: on one line, or on two where that
    /// makes it much larger. Returns the lines, and their size.
    pub(crate) fn name(
        &mut self,
        (x, y): (f32, f32),
        (width, height): (f32, f32),
        name: &str,
        style: Style,
    ) -> (usize, f32) {
        const LINE: f32 = 1.22;
        let fits = |pen: &mut Self, text: &str, most: f32| {
            let at_ten = pen.width(text, Style { size: 10.0, ..style }).max(0.1);
            // A hair less than it fits: sizes and widths are rounded on their way.
            (10.0 * width / at_ten * 0.985).min(most)
        };
        let one = fits(self, name, style.size.min(height / LINE));
        let words: Vec<&str> = name.split_whitespace().collect();
        let half = style.size.min(height / LINE / 2.0);
        let best = (1..words.len())
            .map(|at| [words[..at].join(" "), words[at..].join(" ")])
            .map(|lines| {
                let size = lines.iter().fold(half, |size, line| fits(self, line, size));
                (size, lines)
            })
            .max_by(|a, b| a.0.total_cmp(&b.0));
        let (size, lines) = match best {
            Some((size, lines)) if size > one * 1.15 => (size, lines.to_vec()),
            _ => (one, vec![name.to_owned()]),
        };
        let count = lines.len();
        let whole = size * LINE * f32::from(u8::try_from(count).unwrap_or(2));
        let mut at = y + (height - whole) / 2.0;
        for line in lines {
            self.text(x, at, width, &line, Style { size, ..style }, 1);
            at += size * LINE;
        }
        (count, size)
    }
}

impl Setter {
    fn layout(&mut self, text: &str, width: f32, style: Style) -> Layout<Ink> {
        let other = is_other_script(text);
        let fonts = match other {
            true => self.all_fonts.get_or_insert_with(fonts_of_all_scripts),
            false => &mut self.fonts,
        };
        let mut builder = self.layouts.ranged_builder(fonts, text, 1.0, false);
        let (family, weight) = match style.face {
            Face::Heading => ("Besley", 700.0),
            Face::Mark => ("Besley", 600.0),
            Face::Body => ("Source Sans 3", 400.0),
            Face::Strong => ("Source Sans 3", 600.0),
        };
        // A word half in one face and half in another reads badly.
        let plain =
            text.chars().all(|c| c < '\u{180}' || matches!(c, '\u{2010}'..='\u{2044}' | '€'));
        let (family, weight) =
            if plain || family != "Besley" { (family, weight) } else { ("Source Sans 3", 600.0) };
        // Besley has Latin letters only; Greek and Cyrillic ones fall back to Source Sans 3,
        // and those of other scripts to the first font that has them.
        let scripts = SCRIPTS.iter().map(|(name, _)| *name).take_while(|_| other);
        let families: Vec<_> = [family, "Source Sans 3"]
            .into_iter()
            .chain(scripts)
            .map(|name| FontFamilyName::Named(Cow::Borrowed(name)))
            .collect();
        builder.push_default(FontFamily::List(Cow::Borrowed(&families)));
        builder.push_default(StyleProperty::OverflowWrap(OverflowWrap::Anywhere));
        builder.push_default(StyleProperty::FontWeight(FontWeight::new(weight)));
        builder.push_default(StyleProperty::FontSize(style.size));
        builder.push_default(StyleProperty::LetterSpacing(style.spacing));
        builder.push_default(StyleProperty::LineHeight(LineHeight::FontSizeRelative(1.22)));
        builder.push_default(StyleProperty::Brush(style.ink));
        let mut layout = builder.build(text);
        layout.break_all_lines(Some(width));
        layout.align(style.align, Default::default());
        layout
    }

    fn draw(
        &mut self,
        surface: &mut Surface<'_>,
        layout: &Layout<Ink>,
        text: &str,
        (x, y): (f32, f32),
        lines: usize,
        block: &mut TagGroup,
    ) {
        for line in layout.lines().take(lines) {
            // Whoever takes the text out gets it as it reads: without gaps at spaced letters,
            // with ligatures undone. Other scripts go by their glyphs, for which the writer has
            // such words of its own: readers turn round what runs from right to left by
            // themselves, and words within words confuse them.
            let reads = text.get(line.text_range()).unwrap_or_default().trim_end();
            if reads.is_empty() {
                continue;
            }
            let span = SpanTag::empty().with_actual_text((!is_other_script(text)).then_some(reads));
            block.push(surface.start_tagged(ContentTag::Span(span)));
            let baseline = y + line.metrics().baseline;
            let mut cursor = x + line.metrics().offset;
            for run in line.runs() {
                let (data, id) = run.font().data.clone().into_raw_parts();
                let index = run.font().index;
                let font = match self.embedded.entry(id) {
                    std::collections::hash_map::Entry::Occupied(known) => known.get().clone(),
                    std::collections::hash_map::Entry::Vacant(new) => {
                        let Some(font) = Font::new(data.into(), index) else { continue };
                        new.insert(font).clone()
                    }
                };
                let size = run.font_size();
                let (mut glyphs, mut ink, start) = (Vec::new(), Ink::default(), cursor);
                for cluster in run.visual_clusters() {
                    for glyph in cluster.glyphs() {
                        ink = cluster.style().brush;
                        glyphs.push(KrillaGlyph::new(
                            GlyphId::new(glyph.id),
                            glyph.advance / size,
                            glyph.x / size,
                            glyph.y / size,
                            0.0,
                            cluster.text_range(),
                            None,
                        ));
                        cursor += glyph.advance;
                    }
                }
                surface.set_stroke(None);
                surface.set_fill(Some(ink.fill()));
                surface.draw_glyphs(
                    Point::from_xy(start, baseline),
                    &glyphs,
                    font,
                    text,
                    size,
                    false,
                );
            }
            surface.end_tagged();
        }
    }
}
