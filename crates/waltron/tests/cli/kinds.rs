//! A file of another kind than is wanted is told as what it is, once, whoever names it; and an asset is read back.

use crate::support::Site;

/// A file of each kind, with the word for it.
const FILES: [(&str, &str); 11] = [
    ("t2.asset.toml", "an asset"),
    ("t2.plan.toml", "a plan"),
    ("t2.rig.toml", "a rig"),
    ("ns1-q1.instrument.toml", "an instrument"),
    ("t2.specimen.toml", "a specimen"),
    ("at1.answers.toml", "a file of answers"),
    ("oil.correction.toml", "a correction"),
    ("mine.band.toml", "a band"),
    ("own.seq", "a sequence"),
    ("quick.run.jsonl", "a run record"),
    ("quick.html", "a report"),
];

fn site() -> Site {
    let site = Site::examples();
    site.write("own.seq", "hold i = 0.2 A for 1 s then off\n");
    for name in ["q07-f1.asset.toml", "q07-f1.rig.toml", "q07-f1.specimen.toml"] {
        site.write(name, &Site::new().read(name));
    }
    let copy = |name: &str, text: &str| site.write(name, text);
    copy("mine.band.toml", include_str!("../../../waltron-breaker/bands/generic.band.toml"));
    copy(
        "oil.correction.toml",
        include_str!("../../../waltron-transformer/corrections/oil-paper.correction.toml"),
    );
    let run =
        ["run", "t2.plan.toml", "--only", "impedance", "--yes", "--record", "quick.run.jsonl"];
    site.waltron(&run).exits(0);
    site.waltron(&["report", "quick.run.jsonl", "-o", "quick.html"]).exits(0);
    site
}

/// Each command with a place for a file, `@`, and the kinds that it takes there.
const PLACES: [(&str, &[&str]); 21] = [
    ("check @", &["a plan", "an asset"]),
    ("check t2.plan.toml --rig @", &["a rig"]),
    ("run @ --yes --record x.run.jsonl", &["a plan"]),
    ("run at1.plan.toml --record x.run.jsonl --answers @", &["a file of answers"]),
    ("run t2.plan.toml --yes --record x.run.jsonl --rig @", &["a rig"]),
    ("fmt --check @", &["a sequence"]),
    ("hookup @", &["a plan"]),
    ("rig list @", &["a rig"]),
    ("rig serve @ --listen 127.0.0.1:0", &["a rig"]),
    ("inject --rig @ --asset q07-f1.asset.toml --for 10ms ia=1A", &["a rig"]),
    ("new plan --for @", &["an asset"]),
    ("new plan --for t2.asset.toml --rig @", &["a rig"]),
    ("report @ -o x.html", &["a run record"]),
    ("report quick.run.jsonl -o x.html --against @", &["a run record"]),
    ("grade @", &["a run record"]),
    ("grade quick.run.jsonl --asset @", &["an asset"]),
    ("grade quick.run.jsonl --plan @", &["a plan"]),
    ("plot @ --test ratio -o x.svg", &["a plan"]),
    ("note @ words", &["a run record"]),
    ("curve time --at 2x --element 51P --asset @", &["an asset"]),
    ("inject --rig q07-f1.rig.toml --asset @ --for 10ms ia=1A", &["an asset"]),
];

#[test]
fn a_file_of_another_kind_is_told_as_what_it_is() {
    let site = site();
    let before = site.files();
    for (command, wanted) in PLACES {
        for (file, kind) in FILES {
            if wanted.contains(&kind) {
                continue;
            }
            let args: Vec<&str> =
                command.split(' ').map(|a| if a == "@" { file } else { a }).collect();
            let done = site.waltron(&args).exits(2);
            let err = done.err();
            let told = format!("{file}: this is {kind}, and {} is wanted", wanted[0]);
            assert!(err.contains(&told), "{args:?}: {err}");
            assert_eq!(err.matches("error:").count(), 1, "{args:?}: {err}");
            assert_eq!(err.matches("help: ").count(), 1, "{args:?}: {err}");
            assert_eq!((done.out().as_str(), site.files()), ("", before.clone()), "{args:?}");
        }
    }
}

/// What another file names is told where it is named.
#[test]
fn a_file_of_another_kind_is_told_where_it_is_named() {
    for (file, from, to, told) in [
        ("t2.plan.toml", "\"t2.asset.toml\"", "\"t2.rig.toml\"", "a rig, and an asset"),
        ("t2.plan.toml", "\"t2.rig.toml\"", "\"t2.asset.toml\"", "an asset, and a rig"),
        ("t2.rig.toml", "\"t2.specimen.toml\"", "\"t2.rig.toml\"", "a rig, and a specimen"),
        (
            "t2.rig.toml",
            "seed = 1102",
            "instruments = [\"t2.plan.toml\"]",
            "a plan, and an instrument",
        ),
    ] {
        let site = Site::examples();
        let line = 1 + site.read(file).lines().position(|l| l.contains(from)).unwrap();
        site.edit(file, from, to);
        let err = site.waltron(&["check", "t2.plan.toml"]).exits(2).err();
        let told = format!("this is {told} is wanted");
        assert!(err.contains(&told) && err.contains(&format!("{file}:{line}:")), "{err}");
        assert_eq!(err.matches("error:").count(), 1, "{err}");
    }
}

/// Every sample asset is read back by its tag, and what is told to be typed next does what it says; settings stand
/// under the names of expressions, and ratios are those of the nameplate.
#[test]
fn an_asset_is_read_back() {
    for site in [Site::new(), Site::examples()] {
        for file in site.files().iter().filter(|f| f.ends_with(".asset.toml")) {
            let text = site.waltron(&["check", file]).exits(0).out();
            let tag =
                site.read(file).lines().find_map(|l| l.strip_prefix("tag = ")).unwrap().to_owned();
            assert_eq!(text.lines().next(), Some(tag.trim_matches('"')), "{file}");
            let json = site.waltron(&["check", file, "--format", "json"]).exits(0).json();
            assert_eq!(json["identity"]["tag"], tag.trim_matches('"'));
            let next = text.lines().last().and_then(|l| l.strip_prefix("Next    waltron "));
            let Some(next) = next else {
                // No tests follow from it.
                site.waltron(&["new", "plan", "--for", file]).exits(2);
                continue;
            };
            let made = site.waltron(&next.split(' ').collect::<Vec<_>>()).exits(0).out();
            assert!(made.contains("[[test]]") && made.contains(file.as_str()), "{made}");
        }
    }
    let site = Site::new();
    let json = site.waltron(&["check", "q07-f1.asset.toml", "--format", "json"]).exits(0).json();
    for (name, value) in [("51P.pickup_a", 1.2), ("51P.tms", 0.30), ("50P.delay_s", 0.06)] {
        assert_eq!(json["settings"][name], value, "{json}");
    }
    let refused = site.waltron(&["check", "q07-f1.asset.toml", "--timeline"]).exits(2).err();
    assert!(
        refused.contains("--timeline is for plans") && refused.contains("new plan"),
        "{refused}"
    );
    // As the nameplate rounds, to 10 V: 1.25 % of 110 kV a position, over 20 kV.
    let text = Site::examples().waltron(&["check", "t2.asset.toml"]).exits(0).out();
    for position in 1..=19 {
        let exact: f64 = 110e3 * (1.0 + 0.0125 * f64::from(10 - position));
        let ratio = (exact / 10.0).round() * 10.0 / 20e3;
        let line = text.lines().find(|l| l.starts_with(&format!(" {position} "))).unwrap();
        let told: f64 = line.split_whitespace().last().unwrap().parse().unwrap();
        assert!((told - ratio).abs() < 1e-6, "{line} {ratio}");
    }
}
