//! Pictures in addition to text: `--map`.

use crate::{
    failure::{Failure, Outcome},
    render::{picture::Format, quoted},
    session::Session,
};
use imbrik_core::image::PartFile;
use std::{io::Write, path::Path};

/// The picture's format, by its name.
pub(crate) fn format(path: &Path, replace: bool) -> Outcome<Format> {
    let extension = path.extension().and_then(|end| end.to_str()).unwrap_or_default();
    let format = match extension.to_ascii_lowercase().as_str() {
        "svg" => Format::Svg,
        "png" => Format::Png,
        _ => {
            return Err(Failure::usage(format!(
                "{} has no known picture format: use .svg or .png",
                quoted(path)
            )));
        }
    };
    if !replace && path.symlink_metadata().is_ok() {
        return Err(Failure::refused(format!("{} exists already", quoted(path)))
            .state("It is unchanged.")
            .next("Choose another name, or add --replace."));
    }
    Ok(format)
}

/// Keeps the picture `drawn` as `path`.
pub(crate) fn keep(session: &Session, path: &Path, replace: bool, drawn: &[u8]) -> Outcome<()> {
    let part = PartFile::create(path, replace, session.environment.owner)?;
    let failed = |e| imbrik_core::Error::io(format!("writing {}", path.display()), e);
    part.file().write_all(drawn).map_err(failed)?;
    part.publish()?;
    Ok(())
}
