//! Archives that hold an image among other files.

use imbrik_store::error::{Class, Error, Result};

/// The maximum number of names in a message about an ambiguous archive.
const MOST_NAMED: usize = 5;
/// The maximum number of entries that are read.
pub(super) const MOST_ENTRIES: usize = 10_000;

/// Selects the image from the names of all entries: the only file, or the only one with an image's extension. Names are
/// only compared.
pub(super) fn only_image(names: &[String], kind: &str, wanted: Option<&str>) -> Result<usize> {
    if let Some(wanted) = wanted {
        return names.iter().position(|name| name == wanted).ok_or_else(|| {
            let what = format!("there is no {wanted} in this {kind} archive");
            Error::new(Class::Usage, what)
        });
    }
    let is_file = |name: &str| {
        let is_extra = name.starts_with("__MACOSX/") || name.contains("/._");
        !name.ends_with('/') && !is_extra
    };
    let is_image = |name: &str| {
        let name = name.to_ascii_lowercase();
        [".img", ".iso", ".bin", ".raw"].iter().any(|end| name.ends_with(end))
    };
    let files = || names.iter().enumerate().filter(|(_, name)| is_file(name));
    let mut images = files().filter(|(_, name)| is_image(name)).map(|(index, _)| index);
    let mut all = files().map(|(index, _)| index);
    match (images.next(), images.next(), all.next(), all.next()) {
        (Some(index), None, _, _) | (None, _, Some(index), None) => Ok(index),
        (_, _, None, _) => Err(Error::unsupported(format!("this {kind} archive contains no file"))),
        _ => {
            let named = |pick: &dyn Fn(&str) -> bool| -> Vec<&str> {
                files().map(|(_, name)| name.as_str()).filter(|name| pick(name)).collect()
            };
            let images = named(&is_image);
            let all = if images.is_empty() { named(&|_| true) } else { images };
            let more = if all.len() > MOST_NAMED { ", ..." } else { "" };
            let shown = all.iter().take(MOST_NAMED).copied().collect::<Vec<_>>().join(", ");
            Err(Error::unsupported(format!(
                "this {kind} archive holds {} files that could be the image ({shown}{more}): name one \
                 as ARCHIVE:NAME",
                all.len()
            )))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn single_file_or_single_image_is_selected() {
        let of = |names: &[&str]| {
            let names: Vec<_> = names.iter().map(|name| (*name).to_owned()).collect();
            only_image(&names, "zip", None).ok()
        };
        assert_eq!(of(&["hive"]), Some(0));
        assert_eq!(of(&["a/", "a/x.IMG", "readme.txt"]), Some(1));
        assert_eq!(of(&["__MACOSX/._x.img", "x.img"]), Some(1));
        assert_eq!(of(&["x.img", "y.img"]), None);
        assert_eq!(of(&["x", "y"]), None);
        assert_eq!(of(&["a/"]), None);
    }
}
