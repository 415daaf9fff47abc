//! The drawing of a connection sheet: the rig on the left, the asset on the right, a line for each
//! connection. Narrow, so that a phone shows it in readable letters.

use maud::{Markup, PreEscaped, html as markup};
use waltron_core::plan::hookup::{BY_HAND, Carries, Sheet, Wire};

const WIDTH: u32 = 480;
/// Width of a box.
const BOX: u32 = 158;
/// Letters that fit into a line of a box, and into one between the boxes.
const LETTERS: usize = 18;
const BETWEEN: usize = 20;
/// Height of a line of text.
const LINE: u32 = 16;
/// Height of a row with one line.
const ROW: u32 = 54;
const HEAD: u32 = 22;
const GROUP: u32 = 26;

/// Text in lines of at most so many letters, broken at blanks where there are any.
fn lines(text: &str, most: usize) -> Vec<String> {
    let mut all = vec![String::new()];
    for word in text.split_whitespace() {
        let mut word = word.to_owned();
        loop {
            let last = all.last_mut().map_or(0, |l| l.chars().count());
            let gap = usize::from(last > 0);
            if last + gap + word.chars().count() <= most {
                if let Some(line) = all.last_mut() {
                    line.push_str(if gap > 0 { " " } else { "" });
                    line.push_str(&word);
                }
                break;
            }
            if last > 0 {
                all.push(String::new());
                continue;
            }
            let head: String = word.chars().take(most).collect();
            word = word.chars().skip(most).collect();
            if let Some(line) = all.last_mut() {
                *line = head;
            }
        }
    }
    all
}

fn group(carries: Carries) -> &'static str {
    match carries {
        Carries::Current => "Currents",
        Carries::Voltage => "Voltages",
        Carries::Contact => "Contacts",
        Carries::Switch => "Switches",
        Carries::Measured => "Meters",
    }
}

/// Colour, dashes and width of a line; the dashes say the same without colour.
fn stroke(carries: Carries) -> (&'static str, &'static str, &'static str) {
    match carries {
        Carries::Current => ("#8c2f39", "none", "3"),
        Carries::Voltage => ("#20567f", "10 4", "2.4"),
        Carries::Contact => ("#3a4650", "2 4", "2"),
        Carries::Switch => ("#3a4650", "8 3 2 3", "2"),
        Carries::Measured => ("#2f6b3c", "4 3", "2"),
    }
}

fn text_lines(x: u32, middle: u32, lines: &[String], anchor: &str, class: &str) -> Markup {
    let first = middle + 5 - (lines.len() as u32 - 1) * LINE / 2;
    markup! {
        @for (n, line) in lines.iter().enumerate() {
            text class=(class) x=(x) y=(first + n as u32 * LINE) text-anchor=(anchor) { (line) }
        }
    }
}

fn at_asset(wire: &Wire) -> String {
    wire.asset.clone().unwrap_or_else(|| match wire.carries {
        Carries::Contact => wire.what.clone(),
        _ => format!("{} input", wire.what),
    })
}

fn row(wire: &Wire, top: u32, height: u32) -> Markup {
    let (colour, dashes, width) = stroke(wire.carries);
    let (left, right, middle) = (BOX + 4, WIDTH - BOX - 4, top + height / 2);
    let centre = WIDTH / 2;
    let name = if wire.rig == wire.id.as_str() {
        wire.rig.clone()
    } else {
        format!("{} ({})", wire.rig, wire.id)
    };
    // The arrow shows which end gives and which end takes.
    let to_asset = wire.carries.is_to_asset();
    let (tip, tail) = if to_asset { (right - 5, -9i64) } else { (left + 5, 9) };
    let back = i64::from(tip) + tail;
    let arrow = format!("{tip},{middle} {back},{} {back},{}", middle - 5, middle + 5);
    // The group says already that it is a contact.
    let what = lines(wire.what.trim_start_matches("contact "), BETWEEN);
    let above = what.first().cloned().unwrap_or_default();
    let (below, class) = match &wire.most {
        Some(most) => (Some(format!("at most {most}")), "most"),
        None => (what.get(1..).filter(|w| !w.is_empty()).map(|w| w.join(" ")), "what"),
    };
    markup! {
        line x1=(left) y1=(middle) x2=(right) y2=(middle) stroke=(colour)
            stroke-width=(width) stroke-dasharray=(dashes) {}
        polygon points=(arrow) fill=(colour) {}
        circle cx=(left) cy=(middle) r="5" fill="#fff" stroke=(colour) stroke-width="2" {}
        circle cx=(right) cy=(middle) r="5" fill="#fff" stroke=(colour) stroke-width="2" {}
        (text_lines(BOX - 8, middle, &lines(&name, LETTERS), "end", "terminal"))
        (text_lines(WIDTH - BOX + 8, middle, &lines(&at_asset(wire), LETTERS), "start", "terminal"))
        text class="what" x=(centre) y=(middle - 8) text-anchor="middle" { (above) }
        @if let Some(below) = below {
            text class=(class) x=(centre) y=(middle + 18) text-anchor="middle" { (below) }
        }
    }
}

/// The drawing of the connections as an SVG element.
pub fn drawing(sheet: &Sheet) -> String {
    let (inner, height) = connections(sheet);
    let view = format!("0 0 {WIDTH} {height}");
    let label = format!("Connections between {} and {}", sheet.rig, sheet.asset);
    let svg = markup! {
        svg class="connections" xmlns="http://www.w3.org/2000/svg" viewBox=(view) width=(WIDTH) height=(height) role="img" aria-label=(label) {
            (inner)
        }
    };
    svg.into_string()
}

/// What is drawn of the connections, and how high it is.
fn connections(sheet: &Sheet) -> (Markup, u32) {
    let height_of = |wire: &Wire| {
        let most = lines(&wire.rig, LETTERS).len().max(lines(&at_asset(wire), LETTERS).len());
        ROW.max(20 + most as u32 * LINE)
    };
    let mut placed: Vec<(u32, Markup)> = Vec::new();
    let (rig, asset) = (lines(&sheet.rig, LETTERS), lines(&sheet.asset, LETTERS));
    let head = HEAD + rig.len().max(asset.len()) as u32 * LINE;
    let mut y = head;
    let mut last = None;
    for wire in &sheet.wires {
        if last != Some(wire.carries) {
            last = Some(wire.carries);
            let heading = markup! {
                text class="group" x=(WIDTH / 2) y=(y + 18) text-anchor="middle" { (group(wire.carries)) }
            };
            placed.push((y, heading));
            y += GROUP;
        }
        let height = height_of(wire);
        placed.push((y, row(wire, y, height)));
        y += height;
    }
    let (height, bottom) = (y + 12, y + 4);
    let inner = markup! {
        style { (PreEscaped(TEXT)) }
        rect width=(WIDTH) height=(height) fill="#fff" {}
        @for x in [1, WIDTH - BOX - 4] {
            rect x=(x) y="2" width=(BOX + 3) height=(bottom) rx="4" fill="#f4f6f8" stroke="#1d242b" stroke-width="1.5" {}
        }
        (text_lines(BOX / 2 + 2, head / 2 + 2, &rig, "middle", "name"))
        (text_lines(WIDTH - BOX / 2 - 2, head / 2 + 2, &asset, "middle", "name"))
        @for (_, part) in &placed { (part) }
    };
    (inner, height)
}

/// Letters of a list's line across the whole drawing.
const LIST_LETTERS: usize = 66;

/// A list with its heading from a height on, and the height where it ends.
fn list(title: &str, entries: &[String], top: u32) -> (Markup, u32) {
    if entries.is_empty() {
        return (Markup::default(), top);
    }
    let mut rows: Vec<(u32, String)> = Vec::new();
    let mut y = top + 2 * LINE;
    for (n, entry) in entries.iter().enumerate() {
        for (k, line) in lines(entry, LIST_LETTERS - 4).into_iter().enumerate() {
            let number = if k == 0 { format!("{}  ", n + 1) } else { "    ".to_owned() };
            rows.push((y, format!("{number}{line}")));
            y += LINE;
        }
    }
    let drawn = markup! {
        text class="name" x="6" y=(top + LINE) { (title) }
        @for (y, row) in &rows { text x="6" y=(y) xml:space="preserve" { (row) } }
    };
    (drawn, y)
}

/// The whole sheet as one picture: what to see to first, the drawing, what to put back.
pub fn whole_drawing(sheet: &Sheet) -> String {
    let mut top = 4;
    let mut down = |title: &str, entries: &[String]| {
        let (drawn, bottom) = list(title, entries, top);
        top = bottom;
        drawn
    };
    let mut before = vec![down("Before connecting", &sheet.before)];
    before.extend(sheet.for_tests.iter().map(|of| down(&of.title(), &of.lines)));
    let (inner, height) = connections(sheet);
    let (by_hand, bottom) = list(BY_HAND, &sheet.by_hand, top + height);
    let (after, bottom) = list("Afterwards", &sheet.after, bottom);
    let height = bottom + 8;
    let view = format!("0 0 {WIDTH} {height}");
    let svg = markup! {
        svg class="connections" xmlns="http://www.w3.org/2000/svg" viewBox=(view) width=(WIDTH) height=(height) role="img" {
            style { (PreEscaped(TEXT)) }
            rect width=(WIDTH) height=(height) fill="#fff" {}
            @for part in &before { (part) }
            svg y=(top) width=(WIDTH) { (inner) }
            (by_hand)
            (after)
        }
    };
    crate::clean::document(svg.into_string())
}

// In a page the rules would reach every other drawing, but for the class.
const TEXT: &str = ".connections text { font: 13px 'Open Sans', 'Segoe UI', Helvetica, Arial, sans-serif; fill: #1d242b; } \
    .connections .name { font-weight: 700; font-size: 14px; } \
    .connections .group { font-size: 12px; fill: #5a6672; } \
    .connections .what { font-size: 12px; } \
    .connections .most { font-size: 12px; font-weight: 600; }";
