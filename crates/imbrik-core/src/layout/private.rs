//! What one would not give away with a copy: passwords, keys, histories, found by well-known places and by
//! their form. What is found is told by place and kind; no value ever leaves this module.

use imbrik_fs::{FileKind, Files, Onward, Walked};
use imbrik_store::error::Result;
use std::fmt;

/// The longest file that is looked into, in bytes.
const MOST: u64 = 64 << 10;
/// How deep below a place is looked.
const DEEPEST: usize = 6;

/// Why something is private.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum PrivateKind {
    /// The hashes of passwords.
    PasswordHashes,
    /// The password of a network.
    NetworkPassword,
    /// A key that tells the machine from others.
    HostKey,
    /// A key that somebody logs in with.
    LoginKey,
    /// Who may log in with which key.
    Logins,
    /// A password or a token of a service.
    Token,
    /// What somebody typed.
    History,
    /// Letters.
    Mail,
}

impl fmt::Display for PrivateKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::PasswordHashes => "hashes of passwords",
            Self::NetworkPassword => "the password of a network",
            Self::HostKey => "a key of the machine",
            Self::LoginKey => "a private key",
            Self::Logins => "who may log in with which key",
            Self::Token => "a password or a token",
            Self::History => "what somebody typed",
            Self::Mail => "mail",
        })
    }
}

/// What becomes of it in a copy that leaves it out.
#[derive(Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Remedy {
    /// It goes.
    Drop,
    /// Its values go, and all else stays: this is what it holds then.
    Blank(Vec<u8>),
}

/// Values are nobody's business.
impl fmt::Debug for Remedy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Drop => "drop",
            Self::Blank(_) => "blank",
        })
    }
}

/// Something private.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Private {
    /// Names from the volume's root, joined by `/`.
    pub path: Vec<u8>,
    /// Why.
    pub kind: PrivateKind,
    /// By what it was found, in a few words: a key's name, or a place.
    pub by: String,
    /// What becomes of it in a copy without it.
    pub remedy: Remedy,
}

/// What is private in a volume, in the order of paths. Only well-known places are looked into: that
/// nothing is found does not mean that there is nothing.
///
/// # Errors
/// When the volume cannot be read any more.
pub fn private_in(files: &dyn Files) -> Result<Vec<Private>> {
    let mut found = Vec::new();
    files.walk(files.root(), &mut |walked| {
        let one = match walked {
            Walked::Entry(one) => one,
            Walked::Fault { .. } => return Ok(Onward::Into),
        };
        let names: Vec<&[u8]> =
            one.path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()).collect();
        if one.info.kind == FileKind::Folder {
            return Ok(if is_looked_into(&names) { Onward::Into } else { Onward::Past });
        }
        if one.info.kind != FileKind::File || one.info.size == 0 {
            return Ok(Onward::Into);
        }
        let mut private = |kind, by: &str, remedy| {
            let (path, by) = (one.path.to_vec(), by.to_owned());
            found.push(Private { path, kind, by, remedy });
        };
        if let Some((kind, by)) = by_place(&names) {
            private(kind, by, Remedy::Drop);
            return Ok(Onward::Into);
        }
        if one.info.size > MOST {
            return Ok(Onward::Into);
        }
        let most = usize::try_from(MOST).unwrap_or(0);
        let content = match files.read(one.file, most) {
            Err(error) if error.is_local() => return Ok(Onward::Into),
            content => content?,
        };
        let Ok(text) = std::str::from_utf8(&content) else { return Ok(Onward::Into) };
        if let Some((kind, by, remedy)) = by_form(&names, text) {
            private(kind, &by, remedy);
        }
        Ok(Onward::Into)
    })?;
    found.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(found)
}

/// Whether a folder may hold something private of a known form.
fn is_looked_into(names: &[&[u8]]) -> bool {
    let is_known = matches!(
        names,
        [] | [b"etc" | b"root" | b"home" | b"boot", ..]
            | [b"var"]
            | [b"var", b"mail", ..]
            | [b"var", b"spool" | b"lib"]
            | [b"var", b"spool", b"mail", ..]
            | [b"var", b"lib", b"iwd" | b"connman" | b"NetworkManager" | b"bluetooth", ..]
    );
    is_known && names.len() <= DEEPEST
}

/// What a place alone tells.
fn by_place(names: &[&[u8]]) -> Option<(PrivateKind, &'static str)> {
    const HISTORIES: [&[u8]; 12] = [
        b".bash_history",
        b".ash_history",
        b".sh_history",
        b".zsh_history",
        b".histfile",
        b".python_history",
        b".sqlite_history",
        b".psql_history",
        b".mysql_history",
        b".lesshst",
        b".viminfo",
        b"fish_history",
    ];
    let (name, folders) = names.split_last()?;
    let is_home = matches!(folders, [b"root", ..] | [b"home", _, ..]);
    Some(match (folders, *name) {
        ([b"etc", b"ssh"], name) if name.starts_with(b"ssh_host_") => {
            (PrivateKind::HostKey, "by its name")
        }
        ([b"etc"], b"shadow-" | b"gshadow-") => (PrivateKind::PasswordHashes, "by its name"),
        ([b"var", b"mail"] | [b"var", b"spool", b"mail"], _) => (PrivateKind::Mail, "by its place"),
        ([.., b"Maildir" | b"mail"] | [.., b"Maildir", _], _) if is_home => {
            (PrivateKind::Mail, "by its place")
        }
        (_, name) if is_home && HISTORIES.contains(&name) => (PrivateKind::History, "by its name"),
        ([.., b".ssh"], b"authorized_keys" | b"authorized_keys2" | b"known_hosts") if is_home => {
            (PrivateKind::Logins, "by its name")
        }
        ([.., b".gnupg", b"private-keys-v1.d"], _) if is_home => {
            (PrivateKind::LoginKey, "by its place")
        }
        (_, b".netrc" | b".git-credentials" | b".pgpass" | b".my.cnf") if is_home => {
            (PrivateKind::Token, "by its name")
        }
        _ => return None,
    })
}

/// What the text in a file tells.
fn by_form(names: &[&[u8]], text: &str) -> Option<(PrivateKind, String, Remedy)> {
    let is_key = text.lines().any(|line| {
        line.starts_with("-----BEGIN ") && line.trim_end().ends_with("PRIVATE KEY-----")
    });
    if is_key {
        return Some((PrivateKind::LoginKey, "by how it begins".to_owned(), Remedy::Drop));
    }
    // Some systems take the first user from a file of the volume that they start from.
    let is_hash = |line: &str| {
        let hash = line.split(':').nth(1).unwrap_or_default();
        hash.starts_with('$') && hash.matches('$').count() > 2
    };
    let names_users = matches!(names, [_] | [b"boot", ..]) && text.lines().any(is_hash);
    if names_users || matches!(names, [b"etc", b"shadow" | b"gshadow"]) {
        let (blank, owners) = without_hashes(text);
        let by = format!("of {}", owners.join(", "));
        return (!owners.is_empty()).then_some((
            PrivateKind::PasswordHashes,
            by,
            Remedy::Blank(blank.into_bytes()),
        ));
    }
    // Programs read settings of their users from names with a dot in front.
    let is_home = matches!(names, [b"root", ..] | [b"home", _, ..]);
    if is_home && !names.iter().any(|name| name.starts_with(b".")) {
        return None;
    }
    let (blank, keys) = without_values(text);
    let first = keys.first()?;
    let is_network = keys.iter().any(|key| NETWORK.iter().any(|word| key.contains(word)))
        || names.iter().any(|name| {
            let name = String::from_utf8_lossy(name).to_lowercase();
            ["wpa", "wifi", "wlan", "system-connections", "netplan", "iwd", "network"]
                .iter()
                .any(|word| name.contains(word))
        });
    let kind = if is_network { PrivateKind::NetworkPassword } else { PrivateKind::Token };
    let by = match keys.len() {
        1 => first.clone(),
        count => format!("{first} and {} more", count.saturating_sub(1)),
    };
    Some((kind, by, Remedy::Blank(blank.into_bytes())))
}

/// Names of settings whose values are passwords of networks, and those of others.
const NETWORK: [&str; 4] = ["psk", "passphrase", "wep_key", "sae_password"];
const SECRETS: [&str; 9] = [
    "password",
    "passphrase",
    "psk",
    "sae_password",
    "wep_key",
    "secret",
    "token",
    "api_key",
    "apikey",
];

/// A list of users without the hashes of their passwords, which nobody can log in with then, and whose
/// they are.
fn without_hashes(text: &str) -> (String, Vec<String>) {
    let mut owners = Vec::new();
    let lines = text.split_inclusive('\n').map(|line| {
        let content = line.trim_end_matches(['\n', '\r']);
        let end = line.get(content.len()..).unwrap_or_default();
        let mut fields: Vec<&str> = content.split(':').collect();
        let (Some(owner), Some(hash)) = (fields.first().copied(), fields.get_mut(1)) else {
            return line.to_owned();
        };
        // What is locked, or has none, has nothing to hide.
        if !hash.trim_start_matches('!').starts_with('$') && hash.len() < 13 {
            return line.to_owned();
        }
        owners.push(owner.to_owned());
        *hash = "!";
        fields.join(":") + end
    });
    let blank: String = lines.collect();
    (blank, owners)
}

/// Settings without the values that are secret, and the names of these settings.
fn without_values(text: &str) -> (String, Vec<String>) {
    let mut keys = Vec::new();
    let lines = text.split_inclusive('\n').map(|line| {
        let trimmed = line.trim_start();
        if trimmed.starts_with(['#', ';', '/']) {
            return line.to_owned();
        }
        let Some(at) = line.find(['=', ':']) else { return line.to_owned() };
        let (key, value) = line.split_at(at);
        let name = key.trim().trim_start_matches("export ").trim_start_matches("- ");
        let name = name.trim_matches(['"', '\'']).to_lowercase();
        let is_word =
            !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || "._-".contains(c));
        let is_secret =
            is_word && SECRETS.iter().any(|word| name.replace('-', "_").ends_with(word));
        let value = value.get(1..).unwrap_or_default();
        let plain = value.trim().trim_end_matches(',').trim_matches(['"', '\'']);
        // A place to be filled in, a path or a switch is no password.
        let is_none = plain.is_empty()
            || plain.starts_with(['$', '<', '{', '[', '/', '%', '*'])
            || ["true", "false", "yes", "no", "none", "null", "ask", "files"].contains(&plain);
        if !is_secret || is_none {
            return line.to_owned();
        }
        keys.push(name);
        let end: String =
            value.chars().rev().take_while(|c| matches!(c, '\n' | '\r' | ',')).collect();
        let end: String = end.chars().rev().collect();
        let sign = line.get(at..at.saturating_add(1)).unwrap_or_default();
        let gap = if value.starts_with(' ') { " " } else { "" };
        format!("{key}{sign}{gap}\"\"{end}")
    });
    let blank: String = lines.collect();
    (blank, keys)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn hashes_are_taken_out_and_who_had_none_stays() {
        let text = "root:$6$salt$hash:19000:0:99999:7:::\nkeeper:!:19000::::::\nbee:*:1::::::\n\
                    old:abcdefghijklm:1::::::\nnew:$6$salt$hash\r\n";
        let (blank, owners) = without_hashes(text);
        assert_eq!(owners, ["root", "old", "new"]);
        assert_eq!(
            blank,
            "root:!:19000:0:99999:7:::\nkeeper:!:19000::::::\nbee:*:1::::::\nold:!:1::::::\n\
             new:!\r\n"
        );
    }

    #[test]
    fn values_of_secrets_are_taken_out_and_all_else_stays() {
        for (line, blank) in [
            ("  psk=\"honey\"\n", "  psk=\"\"\n"),
            ("wpa-psk: honey comb\r\n", "wpa-psk: \"\"\r\n"),
            ("\"apiToken\": \"abc\",\n", "\"apiToken\": \"\",\n"),
            ("export MQTT_PASSWORD='x'", "export MQTT_PASSWORD=\"\""),
        ] {
            let (found, keys) = without_values(line);
            assert_eq!((found.as_str(), keys.len()), (blank, 1), "{line:?}");
        }
        for line in [
            "# psk=honey\n",
            "passwd: files systemd\n",
            "password [success=1 default=ignore] pam_unix.so\n",
            "password=\n",
            "password=$PASSWORD\n",
            "password_file=/run/x\n",
            "token=<your token>\n",
            "psk-flags=0\n",
            "ssid=\"apiary\"\n",
        ] {
            assert_eq!(without_values(line), (line.to_owned(), Vec::new()), "{line:?}");
        }
    }

    proptest! {
        /// What is left has nothing private any more, and as many lines.
        #[test]
        fn what_was_blanked_stays_blank(text in "([a-z_ ]{0,12}(psk|token|password)?[=: ]+[\"a-z$]{0,6},?\r?\n?){0,6}") {
            let (blank, _) = without_values(&text);
            let (again, keys) = without_values(&blank);
            prop_assert!(keys.is_empty(), "{:?} of {:?}", keys, blank);
            prop_assert_eq!(&again, &blank);
            prop_assert_eq!(text.lines().count(), blank.lines().count());
            let (again, owners) = without_hashes(&without_hashes(&text).0);
            prop_assert!(owners.is_empty(), "{:?}", again);
        }
    }
}
