//! `waltron new`: files to begin with.

use crate::cli::new::{DepthArg, New, NewAsset, NewPlan};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::{self, for_shell};
use crate::kind::{Kind, read_as};
use crate::own;
use crate::terminal::Terminal;
use crate::wings::WINGS;
use std::path::{Component, Path, PathBuf};
use waltron_core::asset::Asset;
use waltron_core::defaults::Defaults;
use waltron_core::injection::capability::Capability;
use waltron_core::text::name::nearest;
use waltron_core::wing::Depth;
use waltron_rig::RigForm;

/// Writes a file to begin with.
///
/// # Errors
/// A kind that there is not, an asset that no tests follow from, a file that is there already.
pub(crate) fn new(args: &New, terminal: &Terminal) -> Result<Exit, Failure> {
    match args {
        New::Asset(args) => asset(args, terminal),
        New::Plan(args) => plan(args, terminal),
    }
}

fn asset(args: &NewAsset, terminal: &Terminal) -> Result<Exit, Failure> {
    let own = own::defaults()?;
    let text = WINGS.of(&args.kind).and_then(|wing| wing.new_asset(&args.kind, &own));
    let Some(text) = text else {
        let kinds: Vec<&str> = WINGS.kinds();
        let has = |kind: &&str| WINGS.of(kind).is_some_and(|w| w.new_asset(kind, &own).is_some());
        let known: Vec<&str> = kinds.into_iter().filter(has).collect();
        let help = match nearest(&args.kind, known.iter().copied()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("kinds are {}", known.join(", ")),
        };
        let message = format!("there is no asset file to begin with of kind `{}`", args.kind);
        return Err(Failure::usage(message).help(help));
    };
    put(args.output.as_deref(), &text, args.force, terminal)?;
    if let Some(path) = &args.output {
        let path = for_shell(path);
        terminal.print(&format!("Next    fill it in, then waltron check {path}\n"));
    }
    Ok(Exit::Pass)
}

/// The tests that follow from an asset, as they stand in a plan.
fn tests(asset: &Asset, rig: Option<&Capability>, depth: Depth, own: &Defaults) -> Option<String> {
    WINGS.0.iter().find_map(|wing| wing.new_tests(asset, rig, depth, own))
}

/// Whether any tests follow from an asset.
pub(super) fn makes_a_plan_of(asset: &Asset) -> bool {
    tests(asset, None, Depth::Commissioning, &Defaults::default()).is_some()
}

fn plan(args: &NewPlan, terminal: &Terminal) -> Result<Exit, Failure> {
    let source = read_as(Kind::Asset, &args.asset)?;
    let asset = WINGS.asset(&source)?;
    let rig = match &args.rig {
        Some(rig) => Some(RigForm::load(&read_as(Kind::Rig, rig)?)?.capability),
        None => None,
    };
    let depth = match args.depth {
        None | Some(DepthArg::Commissioning) => Depth::Commissioning,
        Some(DepthArg::Routine) => Depth::Routine,
        Some(DepthArg::Quick) => Depth::Quick,
    };
    let own = own::defaults()?;
    let tests = tests(&asset, rig.as_ref(), depth, &own).ok_or_else(|| {
        Failure::file(&args.asset, "no tests follow from this asset")
            .help("write a plan with `procedure = \"sequence\"`, see docs/sequences.md")
    })?;
    let dir = args.output.as_deref().and_then(Path::parent).unwrap_or(Path::new(""));
    let quoted = |path: &Path| format!("{:?}", relative(path, dir).display().to_string());
    let mut text = format!(
        "# Derived from {}; every test can be changed, taken out, or put elsewhere.\n\n[plan]\ntitle = {:?}\nasset = {}\n",
        args.asset.file_name().unwrap_or_default().to_string_lossy(),
        format!("{} tests", asset.identity.tag),
        quoted(&args.asset),
    );
    match &args.rig {
        Some(rig) => text.push_str(&format!("rig = {}\n", quoted(rig))),
        None => text.push_str("# rig = \"….rig.toml\"\n"),
    }
    match own.line(own::TESTER, "tester") {
        line if line.is_empty() => text.push_str("# tester = \"\", reason = \"\"\n\n"),
        line => text.push_str(&format!("{line}# reason = \"\"\n\n")),
    }
    text.push_str(tests.trim_end());
    text.push('\n');
    put(args.output.as_deref(), &text, args.force, terminal)?;
    if let Some(path) = &args.output {
        terminal.print(&format!("Next    waltron check {}\n", for_shell(path)));
    }
    Ok(Exit::Pass)
}

fn put(output: Option<&Path>, text: &str, force: bool, terminal: &Terminal) -> Result<(), Failure> {
    let Some(path) = output else {
        terminal.print(text);
        return Ok(());
    };
    files::write(path, text.as_bytes(), force)?;
    terminal.print(&format!("Wrote   {}\n", path.display()));
    Ok(())
}

/// A file's name as seen from a folder: names in a plan are relative to it.
fn relative(path: &Path, dir: &Path) -> PathBuf {
    let whole = |path: &Path| {
        let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
    };
    let (path_whole, dir) = (whole(path), whole(dir));
    let parts = |path: &Path| -> Vec<PathBuf> {
        path.components().map(|c: Component<'_>| PathBuf::from(c.as_os_str())).collect()
    };
    let (to, from) = (parts(&path_whole), parts(&dir));
    let common = to.iter().zip(&from).take_while(|(a, b)| a == b).count();
    if common == 0 {
        return path_whole;
    }
    let up = std::iter::repeat_n(PathBuf::from(".."), from.len() - common);
    up.chain(to.into_iter().skip(common)).collect()
}
