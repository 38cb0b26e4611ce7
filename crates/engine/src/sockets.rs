//! Where sockets are put.

use std::path::{Path, PathBuf};

/// Bytes of a folder's path at most: a socket's whole path has room for about 100.
const LONGEST: usize = 85;

/// The path of a folder for a socket, of some name, where folders for passing things usually are; nothing is made.
///
/// # Errors
/// In words, when every such place has a path that is too long for a socket, or holds signs that servers take for their own.
pub fn socket_folder(name: &str) -> Result<PathBuf, String> {
    in_one_of(&[&std::env::temp_dir(), Path::new("/tmp"), Path::new("/var/tmp")], name).ok_or_else(|| {
        "there is no folder for a socket; set TMPDIR to one whose whole path is short and has no commas, quotes or line breaks".to_owned()
    })
}

fn in_one_of(places: &[&Path], name: &str) -> Option<PathBuf> {
    let fits = |folder: &Path| {
        let text = folder.join(name).to_str().map(str::to_owned);
        let plain = |text: &String| text.len() <= LONGEST && !text.contains([',', '"', '\'', '\\', '\n', '\r']);
        folder.is_absolute() && folder.is_dir() && text.as_ref().is_some_and(plain)
    };
    places.iter().find(|place| fits(place)).map(|place| place.join(name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odd_places_are_passed_over() {
        let folder = tempfile::tempdir().unwrap();
        let long = folder.path().join("l".repeat(90));
        let comma = folder.path().join("a,b");
        let line = folder.path().join("a\nb");
        let odd = [long, comma, line];
        odd.iter().for_each(|place| std::fs::create_dir(place).unwrap());
        for place in odd.iter().map(PathBuf::as_path).chain([Path::new("relative"), Path::new("/nowhere/at/all")]) {
            assert_eq!(in_one_of(&[place, folder.path()], "x"), Some(folder.path().join("x")), "{place:?}");
            assert_eq!(in_one_of(&[place], "x"), None, "{place:?}");
        }
    }
}
