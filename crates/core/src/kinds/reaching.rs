//! How a system on a network is reached: the same settings for every kind that is on one.

use super::{Setting, SettingChoice, SettingType};

/// What leads to a system, by the value of the setting `through`; where nothing is said, nothing stands between.
pub const HTTP_PROXY: &str = "http_proxy";
/// A SOCKS proxy of version 5 (RFC 1928).
pub const SOCKS5_PROXY: &str = "socks5_proxy";
/// A host that is logged in to over SSH (RFC 4254, 7.2).
pub const JUMP_HOST: &str = "jump_host";

/// The heading of what few need of a login and its session.
pub const LOGIN: &str = "Login and session";
/// The heading of the way there.
pub const WAY: &str = "The way there";

/// The setting that says which runners reach a system.
pub const ONLY_WHERE: &str = "only_where";

/// Seconds after which a silent session is asked for a sign of life.
pub const KEEPALIVE_SECONDS: u32 = 30;
/// Seconds that opening a session may take.
pub const CONNECT_SECONDS: u32 = 8;

fn choices(all: &[(&'static str, &'static str)]) -> SettingType {
    let choice =
        |(value, says): &(&'static str, &'static str)| SettingChoice { value: (*value).into(), says: (*says).into() };
    SettingType::Choice { choices: all.iter().map(choice).collect() }
}

/// How what goes over the network is encrypted, and who is asked to show what.
#[must_use]
pub fn encryption() -> Vec<Setting> {
    let modes = choices(&[
        ("off", "off"),
        ("prefer", "prefer: if the server offers it"),
        ("require", "require: always, whoever answers"),
        ("verify", "verify: always, and check the certificate"),
    ]);
    vec![
        Setting::new("tls", "Encryption", modes).usually("prefer"),
        Setting::new("ca", "Certificate authority", SettingType::Lines)
            .help("Its certificate as PEM text; empty for those that Gonvel's machine trusts")
            .only_if("tls", &["verify"]),
        Setting::new("certificate", "Client certificate", SettingType::Lines)
            .help("Where the server asks for one: PEM text, and then the certificates between it and its authority")
            .only_if("tls", &["prefer", "require", "verify"])
            .under(LOGIN),
        Setting::new("certificate_key", "Its key", SettingType::Lines)
            .help("PEM text; never shown again")
            .as_secret()
            .only_if_given("certificate")
            .under(LOGIN),
    ]
}

/// What stands between, and for how long one waits.
#[must_use]
pub fn way() -> Vec<Setting> {
    let all = [HTTP_PROXY, SOCKS5_PROXY, JUMP_HOST];
    let ways = choices(&[
        ("directly", "directly"),
        (HTTP_PROXY, "an HTTP proxy (CONNECT)"),
        (SOCKS5_PROXY, "a SOCKS5 proxy"),
        (JUMP_HOST, "a jump host (SSH)"),
    ]);
    vec![
        Setting::new(ONLY_WHERE, "Reached from", SettingType::Pairs)
            .help("Labels of the runners that reach it, one a line, as in site=packhouse: tests and samples are then made there as well")
            .under(WAY),
        Setting::new("through", "Reached through", ways).usually("directly").under(WAY),
        Setting::new("through_host", "Its host", SettingType::Text).only_if("through", &all).under(WAY),
        Setting::new("through_port", "Port", SettingType::Whole { least: 1, most: 65_535 })
            .help("Empty: 8080, 1080 or 22")
            .beside()
            .only_if("through", &all)
            .under(WAY),
        Setting::new("through_user", "User there", SettingType::Text).only_if("through", &all).under(WAY),
        Setting::new("through_password", "Password there", SettingType::Text)
            .help("Or that of the private key")
            .as_secret()
            .beside()
            .only_if("through", &all)
            .under(WAY),
        Setting::new("through_key", "Private key", SettingType::Lines)
            .help("Of the user there, as OpenSSH writes it; never shown again")
            .as_secret()
            .only_if("through", &[JUMP_HOST])
            .under(WAY),
        Setting::new("through_host_key", "Host key", SettingType::Text)
            .help(
                "The public key that the jump host has to show, as in ssh-ed25519 AAAA…, or its fingerprint, as in SHA256:…",
            )
            .only_if("through", &[JUMP_HOST])
            .under(WAY),
        Setting::new("keepalive_seconds", "Keepalive", SettingType::Whole { least: 5, most: 3_600 })
            .help("Seconds of silence after which the other end is asked for a sign of life")
            .usually("30")
            .under(WAY),
        Setting::new("connect_seconds", "Time to connect", SettingType::Whole { least: 1, most: 300 })
            .help("Seconds that opening a session may take")
            .beside()
            .usually("8")
            .under(WAY),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_usual_is_said_as_it_is() {
        let all = way();
        let usual = |name: &str| all.iter().find(|setting| setting.name == name).and_then(Setting::usual_value).unwrap();
        assert_eq!(usual("keepalive_seconds"), KEEPALIVE_SECONDS);
        assert_eq!(usual("connect_seconds"), CONNECT_SECONDS);
    }
}
