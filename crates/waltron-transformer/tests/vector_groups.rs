//! Vector groups, the terminals that they make to be fed and measured, and the ratios that follow.
#![allow(clippy::unwrap_used, missing_docs)]

use waltron_transformer::power::{
    Connection, Explained, LINES, Pair, Side, Terminal, VectorGroup, Windings, explain,
};

/// Every group that can exist, by what the reader takes.
fn all_groups() -> Vec<String> {
    let mut all = Vec::new();
    for first in ["Y", "YN", "D", "Z", "ZN"] {
        for other in ["y", "yn", "d", "z", "zn"] {
            let of = (0..12).map(|clock| format!("{first}{other}{clock}"));
            all.extend(of.filter(|text| VectorGroup::parse(text).is_ok()));
        }
    }
    all
}

/// Of three windings any two make a group: what the clock shows from one to the other, by hand.
#[test]
fn two_of_three_windings_are_a_group_of_their_own() {
    for (text, first, other, due) in [
        ("YNyn0d5", 0, 1, "YNyn0"),
        ("YNyn0d5", 0, 2, "YNd5"),
        ("YNyn0d5", 1, 2, "YNd5"),
        ("YNd5yn0", 1, 2, "Dyn7"),
        ("YNd11d1", 1, 2, "Dd2"),
        ("Dyn11d0", 1, 2, "YNd1"),
        ("Dyn11yn5", 1, 2, "YNyn6"),
    ] {
        let pair = VectorGroup::parse(text).unwrap().between(first, other).unwrap();
        assert_eq!(pair.to_string(), due, "{text}, {first} to {other}");
    }
    assert_eq!(VectorGroup::parse("YNd5").unwrap().between(1, 2), None);
}

#[test]
fn groups_are_read_as_they_are_written_and_half_of_them_exist() {
    for text in ["YNd5", "Dyn11", "Yzn5", "YNyn0d5", "Dd0", "Yy6"] {
        assert_eq!(VectorGroup::parse(text).unwrap().to_string(), text);
    }
    assert_eq!(VectorGroup::parse("YN, yn0, d11").unwrap().to_string(), "YNyn0d11");
    // Of each pair of connections six hours of twelve.
    assert_eq!(all_groups().len(), 5 * 5 * 6);
    let wrong = [
        ("YNd4", "the hours of YNd are odd"),
        ("Dy0", "the hours of Dy are odd"),
        ("Yy5", "the hours of Yy are even"),
        ("Dz1", "the hours of Dz are even"),
        ("Yz0", "the hours of Yz are odd"),
        ("Dyn12", "for 12 write 0"),
        ("YN", "names 1 windings"),
        ("YNyn0d5d5", "names 4 windings"),
        ("Ydn5", "a delta has no neutral"),
        ("ynd5", "in capitals: `YN`"),
        ("YND5", "in small letters: `d`"),
        ("YNd", "its clock number is missing"),
        ("Y0d5", "has no clock number"),
        ("", "at least two windings"),
        ("5", "a winding is Y, YN, D, Z or ZN"),
        ("ÄNd5", "a winding is Y, YN, D, Z or ZN"),
        ("YNd-5", "a winding is"),
        ("YNdé", "a winding is"),
    ];
    for (text, words) in wrong {
        let why = VectorGroup::parse(text).unwrap_err();
        assert!(why.contains(words), "{text}: {why}");
    }
}

/// Terminals and ratios by hand, of the phasor diagrams: line voltages 1 to 1.
#[test]
fn terminals_follow_from_the_phasors() {
    let root3 = 3f64.sqrt();
    type Case = (&'static str, [(&'static str, &'static str); 3], f64);
    let cases: &[Case] = &[
        ("YNd5", [("1U-1N", "2W-2U"), ("1V-1N", "2U-2V"), ("1W-1N", "2V-2W")], 1.0 / root3),
        ("YNd11", [("1U-1N", "2U-2W"), ("1V-1N", "2V-2U"), ("1W-1N", "2W-2V")], 1.0 / root3),
        ("Dyn11", [("1U-1V", "2U-2N"), ("1V-1W", "2V-2N"), ("1W-1U", "2W-2N")], root3),
        ("Dyn5", [("1U-1V", "2N-2U"), ("1V-1W", "2N-2V"), ("1W-1U", "2N-2W")], root3),
        ("YNyn0", [("1U-1N", "2U-2N"), ("1V-1N", "2V-2N"), ("1W-1N", "2W-2N")], 1.0),
        ("YNyn6", [("1U-1N", "2N-2U"), ("1V-1N", "2N-2V"), ("1W-1N", "2N-2W")], 1.0),
        ("Yy0", [("1U-1V", "2U-2V"), ("1V-1W", "2V-2W"), ("1W-1U", "2W-2U")], 1.0),
        ("Dd0", [("1U-1V", "2U-2V"), ("1V-1W", "2V-2W"), ("1W-1U", "2W-2U")], 1.0),
        // No neutral: two terminals joined, √3/2.
        ("Yd1", [("1U-1V+1W", "2U-2V"), ("1V-1W+1U", "2V-2W"), ("1W-1U+1V", "2W-2U")], root3 / 2.0),
        ("Dy1", [("1U-1V+1W", "2U-2V"), ("1V-1W+1U", "2V-2W"), ("1W-1U+1V", "2W-2U")], root3 / 2.0),
        ("Yzn11", [("1U-1V", "2U-2N"), ("1V-1W", "2V-2N"), ("1W-1U", "2W-2N")], root3),
        ("Dz0", [("1U-1V", "2U-2V"), ("1V-1W", "2V-2W"), ("1W-1U", "2W-2U")], 1.0),
    ];
    for (text, pairs, factor) in cases {
        let group = VectorGroup::parse(text).unwrap();
        let shots = Windings::new(&group.sides).shots(1, 2).unwrap();
        for (shot, (fed, measured)) in shots.iter().zip(pairs) {
            let got = (shot.fed.to_string(), shot.measured.to_string());
            assert_eq!((got.0.as_str(), got.1.as_str()), (*fed, *measured), "{text}");
            assert!((shot.factor / factor - 1.0).abs() < 1e-12, "{text}: {}", shot.factor);
        }
    }
}

/// Whatever the group and whatever way the flux divides where nothing fixes it: three pairs whose voltages
/// are in the ratio that they should be in.
#[test]
fn every_group_has_pairs_that_do_not_depend_on_how_the_flux_divides() {
    let mut count = 0;
    for text in all_groups() {
        let group = VectorGroup::parse(&text).unwrap();
        let windings = Windings::new(&group.sides);
        for (fed, measured) in [(1, 2), (2, 1)] {
            let shots = windings.shots(fed, measured).unwrap_or_else(|| panic!("{text}"));
            for shot in shots {
                let sum = |pair| windings.sum(pair).unwrap();
                let (f, m) = (sum(&shot.fed), sum(&shot.measured));
                let nothing = windings.nothing(&shot.fed);
                // Any limb e.m.f.s that leave nothing where nothing must be.
                for seed in 1..6u32 {
                    let mut e = [1, 2, 3].map(|k| f64::from((seed * 7 + k * k * 5) % 11) - 4.5);
                    for n in std::iter::repeat_n(&nothing, 60).flatten() {
                        let size: f64 = n.iter().map(|x| x * x).sum();
                        let by = n.iter().zip(e).map(|(n, e)| n * e).sum::<f64>() / size;
                        e = [0, 1, 2].map(|k| e[k] - by * n[k]);
                    }
                    let volts = |sum: [f64; 3]| sum.iter().zip(e).map(|(s, e)| s * e).sum::<f64>();
                    let off = volts(f) - shot.factor * volts(m);
                    assert!(off.abs() < 1e-6, "{text} {} {}: {off}", shot.fed, shot.measured);
                }
                count += 1;
            }
        }
    }
    assert_eq!(count, 150 * 6);
}

#[test]
fn two_windings_of_three_are_a_group_of_their_own() {
    let group = VectorGroup::parse("YNyn6d11").unwrap();
    assert_eq!(group.between(0, 1).unwrap().to_string(), "YNyn6");
    assert_eq!(group.between(0, 2).unwrap().to_string(), "YNd11");
    assert_eq!(group.between(1, 2).unwrap().sides[1].clock, 5);
    let of = |clock| Side { connection: Connection::Star, neutral: true, clock };
    assert_eq!(VectorGroup::all_of(of(0), of(3)).len(), 6);
}

/// Line voltages of a transformer whose flux divides unevenly, by its own sums.
fn read(group: &VectorGroup, fed: &[Pair; 3], uneven: f64) -> [[f64; 3]; 3] {
    let windings = Windings::new(&group.sides);
    fed.map(|pair| {
        let (f, nothing) = (windings.sum(&pair).unwrap(), windings.nothing(&pair));
        // Any division that keeps to the yokes, and to what is fed and joined: by projections.
        let mut e = [0.4, -0.3 + uneven, -0.1 - uneven];
        let mut fixed: Vec<([f64; 3], f64)> = nothing.into_iter().map(|n| (n, 0.0)).collect();
        fixed.extend([([1.0; 3], 0.0), (f, 1.0)]);
        for (n, to) in std::iter::repeat_n(&fixed, 200).flatten() {
            let size: f64 = n.iter().map(|x| x * x).sum();
            let off = n.iter().zip(e).map(|(n, e)| n * e).sum::<f64>() - to;
            e = [0, 1, 2].map(|k| e[k] - off / size * n[k]);
        }
        LINES.map(|(a, b)| {
            let line = Pair::of(2, Terminal::Phase(a), Terminal::Phase(b));
            windings.sum(&line).unwrap().iter().zip(e).map(|(s, e)| s * e).sum::<f64>() * 0.18
        })
    })
}

/// Every hour that is not the nameplate's is found and named, whatever the ratio and the division of the
/// flux; and the nameplate's own is.
#[test]
fn the_group_is_found_from_single_phase_voltages() {
    let mut count = 0;
    for text in ["YNd5", "YNd11", "Yd1", "Dyn11", "Dyn5", "YNyn0", "Yyn6", "Dd0", "YNzn1", "Dz6"] {
        let nameplate = VectorGroup::parse(text).unwrap();
        let fed = Windings::new(&nameplate.sides).shots(1, 2).unwrap().map(|shot| shot.fed);
        for group in VectorGroup::all_of(nameplate.sides[0], nameplate.sides[1]) {
            for uneven in [-0.1, 0.0, 0.12] {
                let found = explain(&nameplate, &fed, &read(&group, &fed, uneven));
                assert_eq!(found, Some(Explained::Group(group.clone())), "{text} is {group}");
                count += 1;
            }
        }
    }
    assert_eq!(count, 10 * 6 * 3);
}

#[test]
fn mistakes_are_named() {
    let mut named = 0;
    for text in ["YNd5", "Dyn11", "YNyn0", "Yd1"] {
        let nameplate = VectorGroup::parse(text).unwrap();
        let fed = Windings::new(&nameplate.sides).shots(1, 2).unwrap().map(|shot| shot.fed);
        let right = read(&nameplate, &fed, 0.05);
        // 2V and 2W swapped: U-V reads U-W, V-W the other way round, W-U reads V-U.
        let swapped = right.map(|[uv, vw, wu]| [-wu, -vw, -uv]);
        let found = explain(&nameplate, &fed, &swapped).map(|e| e.to_string());
        // On the other winding it may show the same; then nothing is said that may be wrong.
        let names = |word: &str| found.as_deref().is_none_or(|found| found.contains(word));
        assert!(names("swapped"), "{text}: {found:?}");
        named += usize::from(found.is_some());
        // Nothing at all, or noise, is no group.
        assert_eq!(explain(&nameplate, &fed, &[[0.0; 3]; 3]), None);
        assert_eq!(
            explain(&nameplate, &fed, &[[0.1, 0.1, 0.1], [-0.2, 0.3, 0.1], [0.0, 0.0, 0.1]]),
            None
        );
    }
    assert!(named >= 2, "{named} of 4 were named");
    let nameplate = VectorGroup::parse("Dyn11").unwrap();
    let fed = Windings::new(&nameplate.sides).shots(1, 2).unwrap().map(|shot| shot.fed);
    // 2V reversed: by hand, with 1U-1V fed and the flux divided evenly: u 1, v 0.5 (reversed), w -0.5.
    let of = |u: f64, v: f64, w: f64| [u - v, v - w, w - u];
    let seen = [of(1.0, 0.5, -0.5), of(-0.5, -1.0, -0.5), of(-0.5, 0.5, 1.0)];
    let found = explain(&nameplate, &fed, &seen).unwrap();
    assert_eq!(found.to_string(), "the coil of 2V is the wrong way round");
}
