//! Private files that are recognised by their path alone.

use super::PrivateKind::{
    self, Browser, Dump, History, HostKey, KeyContainer, LoginKey, Logins, MachineId, Mail,
    PasswordHashes, Token, Vpn,
};

/// A pattern, its kind, and whether a copy has the file, but empty.
///
/// Patterns have the names of a path, separated by `/`. `*` matches any characters within a name, `**` any number of
/// names, and a leading `~` the home folder of any user. Upper and lower case are the same.
pub(super) type Place = (&'static str, PrivateKind);

/// All places, by kind. `docs/private.md` lists them.
pub(super) const PLACES: &[Place] = &[
    ("etc/shadow-*", PasswordHashes),
    ("etc/shadow.*", PasswordHashes),
    ("etc/shadow-", PasswordHashes),
    ("etc/gshadow-*", PasswordHashes),
    ("etc/gshadow.*", PasswordHashes),
    ("etc/security/opasswd*", PasswordHashes),
    ("etc/samba/smbpasswd*", PasswordHashes),
    ("var/lib/samba/private/**", PasswordHashes),
    ("etc/ssh/ssh_host_*", HostKey),
    ("etc/dropbear/dropbear_*_host_key*", HostKey),
    ("etc/tinyssh/sshkeydir/**", HostKey),
    ("**/ssh_host_*_key*", HostKey),
    ("etc/machine-id", MachineId),
    ("var/lib/dbus/machine-id", MachineId),
    ("var/lib/systemd/random-seed", MachineId),
    ("var/lib/urandom/random-seed", MachineId),
    ("boot/**/random-seed", MachineId),
    ("loader/random-seed", MachineId),
    ("var/lib/bluetooth/**", MachineId),
    ("etc/ppp/chap-secrets*", Vpn),
    ("etc/ppp/pap-secrets*", Vpn),
    ("etc/ipsec.secrets*", Vpn),
    ("etc/ipsec.d/private/**", Vpn),
    ("etc/ipsec.d/*.secrets", Vpn),
    ("etc/swanctl/private/**", Vpn),
    ("etc/swanctl/rsa/**", Vpn),
    ("etc/swanctl/ecdsa/**", Vpn),
    ("etc/swanctl/pkcs8/**", Vpn),
    ("etc/swanctl/pkcs12/**", Vpn),
    ("etc/openvpn/**/*auth*", Vpn),
    ("etc/openvpn/**/*pass*", Vpn),
    ("etc/openvpn/**/*cred*", Vpn),
    ("etc/openvpn/**/*login*", Vpn),
    ("etc/openvpn/**/*.key", Vpn),
    ("etc/tinc/**/*.priv", Vpn),
    ("var/lib/zerotier-one/*.secret", Vpn),
    ("var/lib/tailscale/*", Vpn),
    ("etc/nebula/*.key", Vpn),
    ("~/.ssh/authorized_keys*", Logins),
    ("~/.ssh/known_hosts*", Logins),
    ("etc/dropbear/authorized_keys*", Logins),
    ("~/.ssh/id_*", LoginKey),
    ("~/.gnupg/private-keys-v1.d/**", LoginKey),
    ("~/.gnupg/secring.*", LoginKey),
    ("etc/luks/**", LoginKey),
    ("etc/*.keytab", LoginKey),
    ("**/*.keytab", LoginKey),
    ("**/*.p12", KeyContainer),
    ("**/*.pfx", KeyContainer),
    ("**/*.jks", KeyContainer),
    ("**/*.keystore", KeyContainer),
    ("**/*.kdbx", KeyContainer),
    ("**/*.kdb", KeyContainer),
    ("**/*.ppk", KeyContainer),
    ("~/.local/share/keyrings/**", KeyContainer),
    ("~/.local/share/kwalletd/**", KeyContainer),
    ("~/.password-store/**", KeyContainer),
    ("~/.netrc", Token),
    ("~/_netrc", Token),
    ("~/.git-credentials", Token),
    ("~/.config/git/credentials", Token),
    ("~/.pgpass", Token),
    ("~/.my.cnf", Token),
    ("~/.mylogin.cnf", Token),
    ("~/.vault-token", Token),
    ("~/.docker/config.json", Token),
    ("~/.config/containers/auth.json", Token),
    ("~/.config/gcloud/**", Token),
    ("~/.azure/**", Token),
    ("~/.config/rclone/rclone.conf", Token),
    ("~/.config/gh/hosts.yml", Token),
    ("~/.terraform.d/credentials*", Token),
    ("etc/ldap.secret", Token),
    ("etc/libnss-ldap.secret", Token),
    ("etc/exim4/passwd.client", Token),
    ("etc/postfix/sasl_passwd*", Token),
    ("etc/postfix/sasl/*passw*", Token),
    ("etc/cifs-*", Token),
    ("**/.smbcredentials", Token),
    ("**/secrets.yaml", Token),
    ("**/secrets.yml", Token),
    ("**/secrets.json", Token),
    ("**/.storage/auth*", Token),
    ("**/.storage/onboarding", Token),
    ("**/flows_cred*.json", Token),
    ("var/lib/grafana/grafana.db", Token),
    ("**/.htpasswd", PasswordHashes),
    ("**/logins.json", Browser),
    ("**/key[34].db", Browser),
    ("**/cookies.sqlite*", Browser),
    ("**/formhistory.sqlite*", Browser),
    ("**/places.sqlite*", Browser),
    ("**/signons.sqlite*", Browser),
    ("~/.config/**/login data*", Browser),
    ("~/.config/**/cookies*", Browser),
    ("~/.config/**/history", Browser),
    ("~/.config/**/web data*", Browser),
    ("~/.*_history", History),
    ("~/.*-history", History),
    ("~/.histfile", History),
    ("~/.history", History),
    ("~/**/fish_history", History),
    ("~/**/*_history", History),
    ("~/.lesshst", History),
    ("~/.viminfo", History),
    ("~/.local/share/nvim/shada/**", History),
    ("~/.local/share/recently-used.xbel", History),
    ("~/.wget-hsts", History),
    ("var/mail/**", Mail),
    ("var/spool/mail/**", Mail),
    ("~/Maildir/**", Mail),
    ("~/mail/**", Mail),
    ("~/mbox", Mail),
    ("~/.thunderbird/**", Mail),
    ("**/*.sql", Dump),
    ("**/*.sql.gz", Dump),
    ("**/*.sql.xz", Dump),
    ("**/*.sql.zst", Dump),
];

/// The pattern that matches the path with these names, and its kind.
pub(super) fn find(names: &[&[u8]]) -> Option<Place> {
    PLACES.iter().copied().find(|(pattern, _)| {
        let (pattern, names) = match pattern.strip_prefix("~/") {
            None => (*pattern, names),
            Some(rest) => match home(names) {
                Some(inside) => (rest, inside),
                None => return false,
            },
        };
        let parts: Vec<&[u8]> = pattern.as_bytes().split(|byte| *byte == b'/').collect();
        matches_path(&parts, names)
    })
}

/// The names of a path below a user's home folder.
pub(super) fn home<'a, 'b>(names: &'a [&'b [u8]]) -> Option<&'a [&'b [u8]]> {
    match names {
        [b"root", inside @ ..] | [b"home", _, inside @ ..] if !inside.is_empty() => Some(inside),
        _ => None,
    }
}

fn matches_path(pattern: &[&[u8]], names: &[&[u8]]) -> bool {
    match (pattern, names) {
        ([], []) => true,
        ([b"**"], [_, ..]) => true,
        ([b"**", rest @ ..], _) => (0..names.len())
            .any(|skipped| matches_path(rest, names.get(skipped..).unwrap_or_default())),
        ([first, rest @ ..], [name, names @ ..]) => {
            matches_name(first, name) && matches_path(rest, names)
        }
        _ => false,
    }
}

fn matches_name(pattern: &[u8], name: &[u8]) -> bool {
    match (pattern, name) {
        ([], []) => true,
        ([b'*', rest @ ..], _) => (0..=name.len())
            .any(|skipped| matches_name(rest, name.get(skipped..).unwrap_or_default())),
        ([b'[', a, b, b']', rest @ ..], [c, name @ ..]) => {
            (c == a || c == b) && matches_name(rest, name)
        }
        ([a, rest @ ..], [b, name @ ..]) => a.eq_ignore_ascii_case(b) && matches_name(rest, name),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kind(path: &str) -> Option<PrivateKind> {
        let names: Vec<&[u8]> = path.split('/').map(str::as_bytes).collect();
        find(&names).map(|(_, kind)| kind)
    }

    #[test]
    fn places_match_whole_paths() {
        assert_eq!(kind("etc/shadow-"), Some(PasswordHashes));
        assert_eq!(kind("etc/shadow.dpkg-old"), Some(PasswordHashes));
        assert_eq!(kind("etc/shadow"), None);
        assert_eq!(kind("home/keeper/.bash_history"), Some(History));
        assert_eq!(kind("root/.local/share/fish/fish_history"), Some(History));
        assert_eq!(kind("home/keeper"), None);
        assert_eq!(kind("home/.bash_history"), None);
        assert_eq!(kind("srv/app/secrets.yaml"), Some(Token));
        assert_eq!(kind("secrets.yaml"), Some(Token));
        assert_eq!(kind("home/keeper/.mozilla/x/KEY4.db"), Some(Browser));
        assert_eq!(kind("home/keeper/.mozilla/x/key5.db"), None);
        assert_eq!(kind("var/lib/bluetooth/AA/BB/info"), Some(MachineId));
        assert_eq!(kind("etc/openvpn/client/auth.txt"), Some(Vpn));
        assert_eq!(kind("etc/openvpn/client.conf"), None);
    }

    /// Fails when a place is missing in the table that people read.
    #[test]
    fn document_lists_every_place() {
        let text = include_str!("../../../../../docs/private.md");
        for (pattern, kind) in PLACES {
            assert!(text.contains(&format!("`{pattern}`")), "{pattern} ({kind}) is missing");
        }
    }
}
