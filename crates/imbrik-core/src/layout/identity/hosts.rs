//! The board's own name in `/etc/hosts`: each line has an address, followed by its names.

/// Returns whether an address is the board's own.
fn is_own(address: &str) -> bool {
    address.starts_with("127.") || address == "::1"
}

/// Compares with `old`, or `old` with a domain, ignoring case.
fn is_name(word: &str, old: &str) -> bool {
    let name = word.get(..old.len());
    let rest = word.get(old.len()..);
    name.is_some_and(|name| name.eq_ignore_ascii_case(old))
        && rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

/// Replaces the board's name `old` by `new` and keeps everything else; also returns the other addresses with the old
/// name, which depend on the network.
pub(super) fn renamed(hosts: &[u8], old: &str, new: &str) -> (Vec<u8>, Vec<String>) {
    let mut out = Vec::with_capacity(hosts.len());
    let mut others = Vec::new();
    for line in hosts.split_inclusive(|byte| *byte == b'\n') {
        // A line that is not text cannot contain the name.
        let Ok(text) = std::str::from_utf8(line) else {
            out.extend(line);
            continue;
        };
        let told = text.split('#').next().unwrap_or_default();
        let address = told.split_whitespace().next().unwrap_or_default();
        if is_own(address) {
            let (entry, comment) = text.split_at(told.len());
            let words = entry.split_inclusive(char::is_whitespace);
            for word in words {
                let name = word.trim_end();
                match is_name(name, old) {
                    true => {
                        out.extend(new.as_bytes());
                        out.extend(word.get(old.len()..).unwrap_or_default().as_bytes());
                    }
                    false => out.extend(word.as_bytes()),
                }
            }
            out.extend(comment.as_bytes());
            continue;
        }
        if told.split_whitespace().skip(1).any(|word| is_name(word, old)) {
            others.push(address.to_owned());
        }
        out.extend(line);
    }
    (out, others)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_host_name_of_the_board_is_replaced() {
        let hosts = b"# hive-07 of the meadow\n127.0.0.1\tlocalhost\n127.0.1.1  Hive-07.lan hive-07 # hive-07\n\
                      ::1 hive-07 hive-070 my-hive-07 hive-07-old\n\xff\xfe hive-07\n192.168.1.7 hive-07\n10.0.0.2 scale";
        let (out, others) = renamed(hosts, "hive-07", "hive-11");
        let expected = b"# hive-07 of the meadow\n127.0.0.1\tlocalhost\n127.0.1.1  hive-11.lan hive-11 # hive-07\n\
                         ::1 hive-11 hive-070 my-hive-07 hive-07-old\n\xff\xfe hive-07\n192.168.1.7 hive-07\n10.0.0.2 scale";
        assert_eq!(String::from_utf8_lossy(&out), String::from_utf8_lossy(expected));
        assert_eq!(others, ["192.168.1.7"]);
        assert_eq!(renamed(b"", "hive-07", "hive-11"), (Vec::new(), Vec::new()));
    }
}
