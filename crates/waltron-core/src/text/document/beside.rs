//! Files of data that a file names, and that stand beside it.

use super::{DocumentError, Field, Problem, Problems, Source, Text};

/// The file that a key of a table names, where its name has this ending: `["trip_unit", "band"]`.
pub fn file_named(source: &Source, [table, key]: [&str; 2], ending: &str) -> Option<String> {
    let document: toml::Table = toml::from_str(&source.text).ok()?;
    let name = document.get(table)?.get(key)?.as_str()?;
    name.ends_with(ending).then(|| name.to_owned())
}

/// What a file beside another one holds; its first problem is told where the file is named.
pub fn load_beside<T>(
    name: &Text,
    source: &Source,
    load: impl Fn(&Source) -> Result<T, DocumentError>,
    problems: &mut Problems,
) -> Option<T> {
    let called = name.as_str();
    let Some(file) = source.beside(called) else {
        let message = format!("there is no file `{called}` beside this one");
        problems.push(Problem::new(name.span(), message));
        return None;
    };
    let file = Source::new(called, file.as_ref());
    load(&file)
        .map_err(|error| {
            let first = error.problems.first().map(|problem| {
                let (line, column) = file.position(problem.span.start);
                format!("{called}:{line}:{column}: {}", problem.message)
            });
            let why = first.unwrap_or_else(|| error.to_string());
            problems.push(Problem::new(name.span(), why));
        })
        .ok()
}
