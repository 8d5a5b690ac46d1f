//! Files that are plainly something else than an image of a card.

/// The number of bytes at the start of a content that are inspected.
pub(super) const HEAD: usize = 512;

/// The kind of content that starts with `head`, in common terms; `None` if it is unknown.
pub(super) fn kind(head: &[u8]) -> Option<&'static str> {
    if head.get(257..262) == Some(b"ustar") {
        return Some("a tar archive");
    }
    let is_text = !head.is_empty()
        && std::str::from_utf8(head)
            .is_ok_and(|text| text.chars().all(|c| !c.is_control() || c.is_whitespace()));
    let text = String::from_utf8_lossy(head).trim_start().to_ascii_lowercase();
    match (text.starts_with("<!doctype html") || text.starts_with("<html"), is_text) {
        (true, _) => Some("a web page"),
        (false, true) => Some("a text"),
        (false, false) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn common_non_images_are_named() {
        let mut tar = vec![0; 512];
        tar[..7].copy_from_slice(b"hive-07");
        tar[257..262].copy_from_slice(b"ustar");
        assert_eq!(kind(&tar), Some("a tar archive"));
        assert_eq!(kind(b"\n<!DOCTYPE html><title>404</title>"), Some("a web page"));
        assert_eq!(kind(b"0f0f  hive-07.img.zst\n"), Some("a text"));
        assert_eq!(kind(&[0; 512]), None);
        assert_eq!(kind(&[]), None);
    }
}
