//! Where the leads are, drawn: the windings as phasors with what is fed, what is read, what is joined or shorted.

use crate::power::asset::PowerTransformer;
use crate::power::vector_group::{Connection, Side};
use std::f64::consts::PI;
use waltron_core::text::name::Name;

/// Size of a place's drawing and of a winding in it, in pixels.
const WIDTH: f64 = 300.0;
const HEIGHT: f64 = 190.0;
const RADIUS: f64 = 52.0;

/// How many places stand beside each other, and how many are drawn at most.
const IN_A_ROW: usize = 3;
const MOST: usize = 12;

/// Something between terminals of a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Link {
    Fed,
    Read,
    Joined,
}

/// The links of a place such as `1U-1N / 2W-2U`; none of one that is not told by terminals.
fn links(place: &str) -> Option<Vec<(Link, String, String)>> {
    let ends = |text: &str, link: Link| -> Option<Vec<(Link, String, String)>> {
        let (from, to) = text.split_once('-')?;
        let mut others = to.split('+');
        let to = others.next()?.to_owned();
        let mut all = vec![(link, from.to_owned(), to.clone())];
        all.extend(others.map(|other| (Link::Joined, to.clone(), other.to_owned())));
        Some(all)
    };
    let mut parts = place.split(" / ");
    let fed = parts.next()?;
    let mut all = Vec::new();
    match fed.split_once(" + ") {
        Some((first, second)) => {
            let (a, b) = (ends(first, Link::Fed)?, ends(second, Link::Fed)?);
            all.push((Link::Joined, a.first()?.2.clone(), b.first()?.1.clone()));
            all.extend(a.into_iter().chain(b));
        }
        None => all.extend(ends(fed, Link::Fed)?),
    }
    for part in parts {
        match part.strip_suffix(" shorted") {
            Some(names) => {
                let names: Vec<&str> = names.split('+').collect();
                let pairs = names.windows(2);
                all.extend(pairs.map(|p| (Link::Joined, p[0].to_owned(), p[1].to_owned())));
            }
            None => all.extend(ends(part, Link::Read)?),
        }
    }
    Some(all)
}

/// Where a terminal is drawn.
fn at(of: &PowerTransformer, terminal: &str) -> Option<(f64, f64)> {
    let number = terminal.chars().next()?.to_digit(10)? as usize;
    let side = of.group.sides.get(number.checked_sub(1)?)?;
    let place = |k: usize| {
        let (x, y) = spot(side, k);
        let middle = WIDTH * (number as f64 - 0.5) / of.group.sides.len() as f64;
        (middle + x, HEIGHT / 2.0 + 8.0 + y)
    };
    match terminal.chars().nth(1)? {
        'U' => Some(place(0)),
        'V' => Some(place(1)),
        'W' => Some(place(2)),
        'N' => Some(place(3)),
        _ => None,
    }
}

/// A terminal from the middle of its winding: U of the first winding on top, the others by the hour.
fn spot(side: &Side, terminal: usize) -> (f64, f64) {
    if terminal == 3 {
        return (0.0, 0.0);
    }
    let angle = PI / 2.0 - 2.0 * PI / 3.0 * terminal as f64 - PI / 6.0 * f64::from(side.clock);
    (RADIUS * angle.cos(), -RADIUS * angle.sin())
}

/// The coils of a winding as lines.
fn coils(of: &PowerTransformer, number: usize, side: &Side) -> String {
    let name = |letter: char| format!("{number}{letter}");
    let place = |letter: char| at(of, &name(letter)).unwrap_or_default();
    let (u, v, w, n) = (place('U'), place('V'), place('W'), place('N'));
    let line = |points: &[(f64, f64)]| {
        let points: Vec<String> = points.iter().map(|(x, y)| format!("{x:.1},{y:.1}")).collect();
        format!(
            "<polyline points=\"{}\" fill=\"none\" stroke=\"#8a94a0\" stroke-width=\"2\"/>",
            points.join(" ")
        )
    };
    match side.connection {
        Connection::Star => [u, v, w].map(|t| line(&[n, t])).concat(),
        Connection::Delta => line(&[u, v, w, u]),
        Connection::Zigzag => {
            // Two halves, a third of the way apart.
            let bent = |t: (f64, f64)| {
                let (dx, dy) = (t.0 - n.0, t.1 - n.1);
                let (cos, sin) = ((PI / 6.0).cos(), (PI / 6.0).sin());
                let by = 1.0 / 3f64.sqrt();
                let kink = (n.0 + by * (dx * cos - dy * sin), n.1 + by * (dx * sin + dy * cos));
                line(&[n, kink, t])
            };
            [u, v, w].map(bent).concat()
        }
    }
}

fn link(of: &PowerTransformer, (what, from, to): &(Link, String, String)) -> Option<String> {
    let ((x1, y1), (x2, y2)) = (at(of, from)?, at(of, to)?);
    // Beside the coil, so that both are seen.
    let (dx, dy) = (x2 - x1, y2 - y1);
    let long = dx.hypot(dy).max(1.0);
    let by = if *what == Link::Joined { -5.0 } else { 7.0 };
    let (ox, oy) = (-dy / long * by, dx / long * by);
    let (x1, y1, x2, y2) = (x1 + ox, y1 + oy, x2 + ox, y2 + oy);
    let (colour, dash, sign) = match what {
        Link::Fed => ("#b5341f", "", "~"),
        Link::Read => ("#1c4f9c", " stroke-dasharray=\"6 3\"", "V"),
        Link::Joined => ("#3d4650", " stroke-dasharray=\"2 3\"", ""),
    };
    let mut out = format!(
        "<line x1=\"{x1:.1}\" y1=\"{y1:.1}\" x2=\"{x2:.1}\" y2=\"{y2:.1}\" stroke=\"{colour}\" stroke-width=\"3\"{dash}/>"
    );
    if !sign.is_empty() {
        let (x, y) = ((x1 + x2) / 2.0, (y1 + y2) / 2.0);
        out.push_str(&format!(
            "<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"8\" fill=\"#fff\" stroke=\"{colour}\" stroke-width=\"2\"/><text x=\"{x:.1}\" y=\"{:.1}\" text-anchor=\"middle\" font-size=\"11\" fill=\"{colour}\">{sign}</text>",
            y + 4.0
        ));
    }
    Some(out)
}

/// One place.
fn one(of: &PowerTransformer, place: &str) -> Option<String> {
    let mut out =
        format!("<text x=\"8\" y=\"16\" font-size=\"12\" font-weight=\"600\">{place}</text>");
    for (k, side) in of.group.sides.iter().enumerate() {
        out.push_str(&coils(of, k + 1, side));
    }
    for link_of in &links(place)? {
        out.push_str(&link(of, link_of)?);
    }
    for name in of.group.terminals() {
        let (x, y) = at(of, &name)?;
        // Outside of the winding, that of the neutral beside it.
        let middle = at(of, &format!("{}N", &name[..1]))?;
        let (dx, dy) = ((x - middle.0) / RADIUS, (y - middle.1) / RADIUS);
        let label = if name.ends_with('N') { (14.0, -6.0) } else { (16.0 * dx, 13.0 * dy + 4.0) };
        out.push_str(&format!(
            "<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"3\" fill=\"#3d4650\"/><text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"middle\" font-size=\"11\" fill=\"#3d4650\">{name}</text>",
            x + label.0,
            y + label.1
        ));
    }
    Some(out)
}

/// A drawing of the places that are told by terminals: fed lines are solid with `~`, read ones dashed with `V`, joins
/// dotted.
pub(crate) fn drawing(of: &PowerTransformer, places: &[Name]) -> Option<String> {
    let drawn: Vec<String> = places.iter().filter_map(|p| one(of, p.as_str())).take(MOST).collect();
    if drawn.is_empty() {
        return None;
    }
    let (rows, columns) = (drawn.len().div_ceil(IN_A_ROW), drawn.len().min(IN_A_ROW));
    let (width, height) = (WIDTH * columns as f64, HEIGHT * rows as f64);
    let cell = |(k, cell): (usize, &String)| {
        let (x, y) = ((k % IN_A_ROW) as f64 * WIDTH, (k / IN_A_ROW) as f64 * HEIGHT);
        format!("<g transform=\"translate({x:.0} {y:.0})\">{cell}</g>")
    };
    let cells: String = drawn.iter().enumerate().map(cell).collect();
    Some(format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width:.0} {height:.0}\" style=\"width:100%;max-width:{width:.0}px\" font-family=\"Noto Sans, sans-serif\" role=\"img\" aria-label=\"Where the leads are: fed ~, read V\">{cells}</svg>"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn transformer(group: &str) -> PowerTransformer {
        let text = include_str!("../../../../../examples/t2.asset.toml").replace("YNd5", group);
        let source = waltron_core::text::document::Source::new("a", text);
        let asset = crate::power::PowerTransformerForm::load(&source).unwrap();
        asset.family::<PowerTransformer>().unwrap().clone()
    }

    /// U on top, V 120° clockwise; the low-voltage side of Yd5 by five hours further: its U at five o'clock.
    #[test]
    fn terminals_stand_by_the_clock() {
        let of = transformer("YNd5");
        let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-6, "{a} {b}");
        let (n, u, v) = (at(&of, "1N").unwrap(), at(&of, "1U").unwrap(), at(&of, "1V").unwrap());
        near(u.0, n.0);
        near(u.1, n.1 - RADIUS);
        near(v.0, n.0 + RADIUS * (PI / 6.0).cos());
        let u2 = spot(&of.group.sides[1], 0);
        near(u2.0, RADIUS * (5.0 * PI / 6.0).sin());
        near(u2.1, -RADIUS * (5.0 * PI / 6.0).cos());
        assert!(at(&of, "3U").is_none() && at(&of, "0U").is_none() && at(&of, "1X").is_none());
    }

    #[test]
    fn every_kind_of_place_is_drawn_and_what_is_none_is_left_out() {
        for group in ["YNd5", "Dyn11", "Yzn5", "Dd0", "YNyn0"] {
            let of = transformer(group);
            let count = |place: &str| {
                let picture = drawing(&of, &[place.into()])?;
                let of = |sign: &str| picture.matches(sign).count();
                Some((of(">~<"), of(">V<"), of("2 3")))
            };
            assert_eq!(count("1U-1V / 2W-2U"), Some((1, 1, 0)));
            assert_eq!(count("1U-1V+1W / 2U-2V"), Some((1, 1, 1)));
            assert_eq!(count("1U-1V / 2U+2V+2W shorted"), Some((1, 0, 2)));
            assert_eq!(count("1U-1V + 2W-2U"), Some((2, 0, 1)));
            assert_eq!(count("H: L+tank measured"), None);
            assert_eq!(count("9U-9V"), None);
            assert_eq!(count(""), None);
        }
        let many: Vec<Name> = (0..40).map(|_| "1U-1V".into()).collect();
        let picture = drawing(&transformer("YNd5"), &many).unwrap();
        assert_eq!(picture.matches(">~<").count(), MOST);
    }
}
