//! The structure of the house: crates import only what stands below them, and no files import each other in a circle.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

/// Crates by their floors, from the ground. One may import crates of lower floors alone.
const FLOORS: &[&[&str]] = &[
    &["wire", "payload"],
    &["core"],
    &["live", "store", "client", "contract"],
    &["broker", "cli"],
    &["links"],
    &["watch"],
    &["api"],
    &["service"],
    &["moorfall"],
];

/// What floors alone don't say: these know nothing of those.
const STRANGERS: &[(&str, &[&str])] = &[
    ("broker", &["axum-extra", "utoipa", "utoipa-axum", "sqlx"]),
    ("cli", &["moorfall-store", "moorfall-live", "axum"]),
    ("contract", &["moorfall-store", "moorfall-live", "axum", "tokio"]),
    ("core", &["tokio", "tracing", "rand"]),
    ("live", &["tokio", "tracing", "sqlx", "moorfall-store"]),
    ("links", &["axum", "sqlx"]),
    ("watch", &["axum", "sqlx"]),
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

/// The names under `[dependencies]`.
fn dependencies(of: &str) -> Vec<String> {
    let text = fs::read_to_string(crates().join(of).join("Cargo.toml")).unwrap();
    let table: toml::Table = text.parse().unwrap();
    table["dependencies"].as_table().unwrap().keys().cloned().collect()
}

#[test]
fn crates_import_only_what_stands_below_them() {
    for entry in fs::read_dir(crates()).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let stands = name == "bench" || FLOORS.iter().flat_map(|floor| *floor).any(|known| *known == name);
        assert!(stands, "{name} has no floor; give it one in FLOORS");
    }
    let floor = |name: &str| FLOORS.iter().position(|floor| floor.contains(&name));
    for (height, name) in
        FLOORS.iter().enumerate().flat_map(|(height, floor)| floor.iter().map(move |name| (height, name)))
    {
        let dependencies = dependencies(name);
        for below in dependencies.iter().filter_map(|name| name.strip_prefix("moorfall-")).filter_map(floor) {
            assert!(below < height, "{name} imports what does not stand below it: {dependencies:?}");
        }
        let strangers = STRANGERS.iter().filter(|(known, _)| known == name).flat_map(|(_, strangers)| *strangers);
        for stranger in strangers {
            assert!(!dependencies.iter().any(|known| known == stranger), "{name} knows {stranger}");
        }
    }
}

#[test]
fn no_files_import_each_other_in_a_circle() {
    for name in FLOORS.iter().copied().flatten() {
        let root = crates().join(name).join("src");
        let mut files = BTreeMap::new();
        read(&root, &root, &mut files);
        let passed = passed_on(&files);
        let imports: BTreeMap<&str, BTreeSet<&str>> = files
            .iter()
            .map(|(module, text)| {
                let paths = uses("\nuse ", module, text);
                (module.as_str(), paths.filter_map(|path| home(&files, &passed, path)).collect())
            })
            .collect();
        let (mut done, mut circles) = (BTreeSet::new(), Vec::new());
        for module in imports.keys() {
            visit(module, &imports, &mut Vec::new(), &mut done, &mut circles);
        }
        assert!(circles.is_empty(), "in {name}, files import each other: {circles:#?}");
    }
}

/// All files below a folder, by the path of their module: `a::b`, and nothing for the root.
fn read(root: &Path, folder: &Path, files: &mut BTreeMap<String, String>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            read(root, &path, files);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            let module = path.strip_prefix(root).unwrap().with_extension("");
            let parts = module.iter().map(|part| part.to_str().unwrap());
            let parts: Vec<&str> = parts.filter(|part| !matches!(*part, "mod" | "lib" | "main")).collect();
            let text = fs::read_to_string(&path).unwrap();
            let (code, _tests) = text.split_once("#[cfg(test)]").unwrap_or((&text, ""));
            files.insert(parts.join("::"), code.to_owned());
        }
    }
}

/// What indexes pass on under a path of their own, and where it comes from.
fn passed_on(files: &BTreeMap<String, String>) -> BTreeMap<String, String> {
    let all = files.iter().flat_map(|(module, text)| {
        let public = ["\npub use ", "\npub(crate) use "].into_iter().flat_map(|begin| uses(begin, module, text));
        public.filter_map(move |path| {
            let name = path.rsplit("::").next()?;
            let own = if module.is_empty() { name.to_owned() } else { format!("{module}::{name}") };
            (own != path).then_some((own, path.clone()))
        })
    });
    all.collect()
}

/// The paths of its own crate in the statements of a file that begin so, from the root. What is passed on (`pub use`) is
/// no import.
fn uses<'a>(begin: &'a str, module: &'a str, text: &'a str) -> impl Iterator<Item = String> + 'a {
    text.split(begin).skip(1).filter_map(|rest| rest.split_once(';')).flat_map(move |(tree, _)| {
        let mut paths = Vec::new();
        leaves("", tree, &mut paths);
        let parent = module.rsplit_once("::").map_or("", |(parent, _)| parent).to_owned();
        paths.into_iter().filter_map(move |path| {
            let (first, rest) = path.split_once("::")?;
            let base = match first {
                "crate" => "",
                "super" => parent.as_str(),
                "self" => module,
                // The root passes on what its own modules have.
                _ if module.is_empty() && begin.contains("pub") => return Some(path),
                _ => return None,
            };
            Some(if base.is_empty() { rest.to_owned() } else { format!("{base}::{rest}") })
        })
    })
}

/// Takes `a::{b, c::d}` apart.
fn leaves(before: &str, tree: &str, paths: &mut Vec<String>) {
    let Some((head, inner)) = tree.split_once('{') else {
        return paths.push(format!("{before}{}", tree.trim()));
    };
    let (mut depth, mut from) = (0, 0);
    let inner = &inner[..inner.rfind('}').unwrap()];
    for (at, character) in inner.char_indices().chain([(inner.len(), ',')]) {
        match character {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                let part = inner[from..at].trim();
                if !part.is_empty() {
                    leaves(&format!("{before}{}", head.trim()), part, paths);
                }
                from = at + 1;
            }
            _ => {}
        }
    }
}

/// The file in which a path lies: the longest module that it begins with.
fn home<'a>(
    files: &'a BTreeMap<String, String>,
    passed: &BTreeMap<String, String>,
    mut path: String,
) -> Option<&'a str> {
    while let Some(origin) = passed.get(&path) {
        path.clone_from(origin);
    }
    let mut module = path.as_str();
    while !files.contains_key(module) {
        module = module.rsplit_once("::")?.0;
    }
    files.get_key_value(module).map(|(module, _)| module.as_str())
}

fn visit<'a>(
    module: &'a str,
    imports: &BTreeMap<&'a str, BTreeSet<&'a str>>,
    above: &mut Vec<&'a str>,
    done: &mut BTreeSet<&'a str>,
    circles: &mut Vec<String>,
) {
    if let Some(place) = above.iter().position(|known| *known == module) {
        return circles.push(format!("{} → {module}", above[place..].join(" → ")));
    }
    if !done.contains(module) {
        above.push(module);
        for below in imports.get(module).into_iter().flatten().filter(|below| **below != module) {
            visit(below, imports, above, done, circles);
        }
        above.pop();
        done.insert(module);
    }
}
