//! Host keys for an SSH server, of the kinds that a card has.

use imbrik_store::error::{Error, Result};
use ssh_key::{
    Algorithm, EcdsaCurve, LineEnding, PrivateKey,
    private::{KeypairData, RsaKeypair},
    rand_core::OsRng,
};

/// The kinds of keys, by the name in their files, that are made anew.
pub(super) const KINDS: [&str; 3] = ["rsa", "ecdsa", "ed25519"];
/// The usual length of an RSA key, in bits.
const RSA_BITS: usize = 3072;

/// A new key of `kind`: the private and the public half as they stand in their files, both with
/// `comment`.
///
/// # Errors
/// When the system gives no randomness, or there is no such kind.
pub(super) fn fresh(kind: &str, comment: &str) -> Result<(String, String)> {
    let failed =
        |error: ssh_key::Error| Error::unsupported(format!("a key of kind {kind}: {error}"));
    let mut random = OsRng;
    let key = match kind {
        "rsa" => {
            let pair = RsaKeypair::random(&mut random, RSA_BITS).map_err(failed)?;
            PrivateKey::new(KeypairData::from(pair), comment)
        }
        "ecdsa" => {
            PrivateKey::random(&mut random, Algorithm::Ecdsa { curve: EcdsaCurve::NistP256 })
        }
        _ => PrivateKey::random(&mut random, Algorithm::Ed25519),
    };
    let mut key = key.map_err(failed)?;
    key.set_comment(comment);
    let private = key.to_openssh(LineEnding::LF).map_err(failed)?.to_string();
    let public = key.public_key().to_openssh().map_err(failed)?;
    Ok((private, format!("{public}\n")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_gives_a_pair_that_belongs_together() {
        for kind in KINDS {
            let (private, public) = fresh(kind, "root@hive-11").unwrap();
            let key = PrivateKey::from_openssh(&private).unwrap();
            assert_eq!(format!("{}\n", key.public_key().to_openssh().unwrap()), public);
            assert!(public.ends_with(" root@hive-11\n") && public.contains(kind), "{public}");
        }
        assert_ne!(fresh("ed25519", "").unwrap().0, fresh("ed25519", "").unwrap().0);
    }
}
