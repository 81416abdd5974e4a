//! How a design lies in files.

use std::path::Path;

use moorfall_core::blueprint::SourceFile;

/// A JSON Schema of the files, for editors.
pub const BLUEPRINT_SCHEMA: &str = include_str!("../blueprint.schema.json");

/// Reads the files of a blueprint: one file, or all that end in `.toml` of a folder.
pub fn blueprint_files(path: &Path) -> std::io::Result<Vec<SourceFile>> {
    let read = |path: &Path, name| std::fs::read_to_string(path).map(|text| SourceFile { name, text });
    if !path.is_dir() {
        let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
        return Ok(vec![read(path, name)?]);
    }
    let mut files = Vec::new();
    for entry in std::fs::read_dir(path)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.ends_with(".toml") {
            files.push(read(&entry.path(), name)?);
        }
    }
    if files.is_empty() {
        return Err(std::io::Error::other("the folder has no file that ends in .toml"));
    }
    files.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(files)
}
