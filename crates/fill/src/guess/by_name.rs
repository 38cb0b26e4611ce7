//! Guesses for texts by what their columns are called: a table, of which the first line that fits decides.

use kampf_schema::{LogicalType, Value, name_words};

use super::people::{FIRST_NAMES, LAST_NAMES, WHOLE_NAMES, is_of_people, name_columns};
use super::{Subject, named, written};
use crate::names;

/// A line of the table: which columns it is about, and what suits them.
struct Line {
    when: When,
    /// What suits, where there is room for it: the first that fits. Nothing, where none does.
    makes: &'static [Makes],
}

/// Which columns a line is about: one of the first four holds, and all of the others.
struct When {
    /// The whole name is one of these.
    is: &'static [&'static str],
    /// One of the name's words is among these.
    has: &'static [&'static str],
    /// One of these stands anywhere in the name.
    holds: &'static [&'static str],
    /// The last word is among these.
    ends: &'static [&'static str],
    /// None of the name's words is among these.
    not: &'static [&'static str],
    /// Characters that there is room for, at least and at most.
    least: u64,
    most: u64,
    /// What else must be so.
    also: fn(&Subject<'_>, u64) -> bool,
}

/// What may suit a column.
enum Makes {
    /// One of some words by their weights, where all fit.
    Pick(&'static [(&'static str, u32)]),
    /// A recipe, where there is room for so many characters.
    Recipe(&'static str, u64),
    /// So many hexadecimal digits, or as many as fit.
    Hex(u64),
    /// What depends on more of the column.
    Own(fn(&Subject<'_>, u64) -> Option<String>),
}

use Makes::{Hex, Own, Pick, Recipe};

const ANY: When = When { is: &[], has: &[], holds: &[], ends: &[], not: &[], least: 0, most: u64::MAX, also: |_, _| true };

const fn is(names: &'static [&'static str]) -> When {
    When { is: names, ..ANY }
}

const fn has(words: &'static [&'static str]) -> When {
    When { has: words, ..ANY }
}

const fn line(when: When, makes: &'static [Makes]) -> Line {
    Line { when, makes }
}

/// The recipe that suits a column by its name, with room for so many characters.
pub(super) fn by_name(subject: &Subject<'_>, room: u64) -> Option<String> {
    let line = LINES.iter().find(|line| line.when.is_about(subject, room))?;
    line.makes.iter().find_map(|makes| makes.recipe(subject, room))
}

impl When {
    fn is_about(&self, subject: &Subject<'_>, room: u64) -> bool {
        let named = subject.is(self.is) || subject.has(self.has) || subject.holds(self.holds) || subject.ends(self.ends);
        named && !subject.has(self.not) && (self.least..=self.most).contains(&room) && (self.also)(subject, room)
    }
}

impl Makes {
    fn recipe(&self, subject: &Subject<'_>, room: u64) -> Option<String> {
        match self {
            Pick(words) => {
                let fits = words.iter().all(|(word, _)| word.chars().count() as u64 <= room);
                // What the schema puts there by itself comes most often, if nobody goes on from it.
                let usual = match subject.default() {
                    Some(Value::Text(usual)) if !usual.is_empty() => Some(usual.as_ref()),
                    _ => None,
                };
                let most = words.iter().map(|(_, weight)| *weight).max().unwrap_or(1);
                let of_usual = |usual: &str| if names::is_first_state(usual) { 2 } else { 2 * most };
                let first = usual.map(|usual| (usual, of_usual(usual)));
                let others = words.iter().copied().filter(|(word, _)| usual != Some(*word));
                let all = first.into_iter().chain(others).map(|(word, weight)| format!("{} {weight}", written(&Value::from(word))));
                fits.then(|| format!("pick({})", all.collect::<Vec<_>>().join(", ")))
            }
            Recipe(recipe, least) => (room >= *least).then(|| (*recipe).to_owned()),
            Hex(most) => Some(hex(*most, room)),
            Own(own) => own(subject, room),
        }
    }
}

const KEPT_WHOLE: &[&str] = &["data", "vars", "vcard", "card", "cards", "document", "cache", "blob", "markdown", "payload", "dump", "raw"];

static LINES: &[Line] = &[
    // Yes and no, as their default says.
    line(When { holds: &[""], most: 3, also: |subject, _| yes_no(subject).is_some(), ..ANY }, &[Own(|subject, _| yes_no(subject))]),
    line(
        When {
            has: &["enabled", "disabled", "deleted", "active", "locked", "hidden", "show", "is", "has", "allow", "public", "private"],
            most: 5,
            also: |subject, _| subject.default() == Some(&Value::from("")),
            ..ANY
        },
        &[Pick(&[("", 6), ("on", 1)])],
    ),
    line(
        is(&["replyto", "bcc", "cc", "sender", "recipient", "fromaddress", "toaddress", "from", "to", "mailfrom", "rcptto"]),
        &[Recipe("email", 30)],
    ),
    line(
        When {
            has: &["email", "mail", "emailaddress"],
            not: &["body", "subject", "text", "host", "server", "template", "id"],
            least: 24,
            ..ANY
        },
        &[Own(email)],
    ),
    line(When { has: &["uuid", "guid"], least: 32, ..ANY }, &[Recipe("uuid4", 36), Recipe("hex(32)", 32)]),
    line(
        When {
            has: &["password", "passwd", "hash", "digest", "checksum", "salt", "sha1", "sha256", "md5"],
            holds: &["checksum", "md5"],
            ..ANY
        },
        &[Own(digest)],
    ),
    line(When { has: &["signature"], most: 512, ..ANY }, &[Own(digest)]),
    // Bills are numbered by the year.
    line(
        When { has: &["number", "no"], least: 10, also: |subject, _| is_of_bills(subject), ..ANY },
        &[Recipe("matching('^20(2[1-6])-[0-9]{5}$')", 10)],
    ),
    line(
        When {
            has: &["token", "secret", "session", "sessionid", "apikey", "nonce", "fingerprint", "etag", "cookie"],
            not: &["user", "type", "name"],
            ..ANY
        },
        &[Hex(32)],
    ),
    line(has(&["url", "uri", "link", "website", "homepage", "href", "webpage"]), &[Recipe("url", 60)]),
    line(has(&["phone", "tel", "telephone", "mobile", "fax", "cell", "msisdn"]), &[Recipe("phone", 14)]),
    line(
        When {
            has: &["number"],
            also: |subject, _| {
                subject.has(&["sender", "destination", "caller", "callee", "recipient", "smsc", "contact", "calling", "called"])
            },
            ..ANY
        },
        &[Recipe("phone", 14)],
    ),
    line(is(&["imei", "imsi"]), &[Recipe("code('###############')", 15)]),
    line(is(FIRST_NAMES), &[Recipe("first_name", 12)]),
    line(is(LAST_NAMES), &[Recipe("last_name", 20)]),
    line(
        When { has: &["username", "login", "nick", "nickname", "account", "userid"], is: &["user", "uid", "username", "loginname"], ..ANY },
        &[Recipe("login", 12)],
    ),
    line(When { holds: &["ipv6"], ..ANY }, &[Recipe("matching('^fd00(:[1-9a-f][0-9a-f]{3}){2}::[1-9a-f][0-9a-f]{3}$')", 22)]),
    line(When { has: &["ip", "ipaddress", "ipaddr", "addr"], holds: &["ipaddress", "ipaddr"], ..ANY }, &[Recipe("address", 15)]),
    line(has(&["mac", "macaddress"]), &[Recipe("code('02:~~:~~:~~:~~:~~')", 17)]),
    line(has(&["host", "hostname", "domain", "server", "fqdn", "realm", "nameserver"]), &[Recipe("host", 24)]),
    line(
        When { is: &["filename", "basename"], has: &["filename"], ..ANY },
        &[Recipe("matching('^[a-z]{3,12}\\.(txt|csv|log|pdf|jpg|zip)$')", 20)],
    ),
    line(
        has(&["path", "file", "dir", "directory", "folder"]),
        &[Recipe("matching('^/(data|home|srv)/[a-z]{3,8}/[a-z]{3,10}\\.(txt|csv|log|pdf)$')", 36)],
    ),
    line(
        When { has: &["mime", "mimetype", "contenttype"], is: &["contenttype"], ..ANY },
        &[Pick(&[("text/plain", 5), ("text/html", 3), ("application/json", 2), ("image/png", 1)])],
    ),
    line(has(&["lang", "language", "locale"]), &[Pick(&[("en", 5), ("de", 3), ("fr", 2), ("es", 1), ("it", 1)])]),
    line(has(&["currency"]), &[Pick(&[("EUR", 6), ("USD", 3), ("GBP", 1), ("CHF", 1)])]),
    line(When { has: &["timezone", "tz"], is: &["timezone"], ..ANY }, &[Pick(&[("UTC", 5), ("+01:00", 3), ("+02:00", 1), ("-05:00", 1)])]),
    line(
        When { has: &["country", "countrycode"], least: 2, most: 2, ..ANY },
        &[Pick(&[("DE", 9), ("FR", 5), ("IT", 4), ("ES", 3), ("NL", 2), ("PL", 2), ("AT", 1), ("SE", 1), ("CH", 1)])],
    ),
    line(
        When { has: &["country", "countrycode"], least: 3, most: 3, ..ANY },
        &[Pick(&[("DEU", 9), ("FRA", 5), ("ITA", 4), ("ESP", 3), ("NLD", 2), ("POL", 2), ("AUT", 1)])],
    ),
    line(
        is(&["country", "countryname"]),
        &[Pick(&[("Germany", 9), ("France", 5), ("Italy", 4), ("Spain", 3), ("Netherlands", 2), ("Poland", 2), ("Austria", 1)])],
    ),
    line(has(&["arch", "architecture"]), &[Pick(&[("amd64", 7), ("arm64", 3), ("i386", 1), ("all", 1)])]),
    line(has(&["os", "platform"]), &[Pick(&[("linux", 5), ("windows", 3), ("macos", 2), ("android", 2), ("ios", 1)])]),
    line(has(&["role"]), &[Pick(&[("member", 12), ("editor", 4), ("admin", 1), ("guest", 1)])]),
    line(has(&["priority", "severity", "importance"]), &[Pick(&[("normal", 7), ("low", 3), ("high", 2), ("urgent", 1)])]),
    line(has(&["result", "outcome", "verdict"]), &[Pick(&[("success", 14), ("failure", 3), ("cancelled", 1), ("skipped", 1)])]),
    line(has(&["visibility", "access"]), &[Pick(&[("private", 5), ("public", 3), ("internal", 1)])]),
    line(has(&["environment", "env", "stage"]), &[Pick(&[("production", 6), ("staging", 2), ("test", 2), ("development", 1)])]),
    line(has(&["encoding", "charset", "characterset"]), &[Pick(&[("utf-8", 9), ("iso-8859-1", 1), ("us-ascii", 1)])]),
    line(
        When { has: &["payment", "paymentmethod"], also: |subject, _| subject.has(&["method", "type", "kind"]), ..ANY },
        &[Pick(&[("card", 6), ("transfer", 3), ("invoice", 2), ("cash", 1)])],
    ),
    line(has(&["method", "verb"]), &[Pick(&[("GET", 9), ("POST", 4), ("PUT", 1), ("DELETE", 1)])]),
    line(
        When { has: &["channel", "source"], not: &["name", "text", "code"], most: 499, ..ANY },
        &[Pick(&[("web", 6), ("mobile", 3), ("api", 2), ("import", 1)])],
    ),
    line(When { has: &["plan", "tier"], most: 499, ..ANY }, &[Pick(&[("free", 8), ("basic", 3), ("pro", 2), ("business", 1)])]),
    line(has(&["unit", "uom"]), &[Pick(&[("pcs", 6), ("kg", 3), ("m", 2), ("l", 1)])]),
    line(has(&["zip", "zipcode", "postcode", "postalcode", "plz"]), &[Recipe("code('#####')", 5)]),
    line(has(&["color", "colour"]), &[Recipe("matching('^#[0-9a-f]{6}$')", 7), Hex(6)]),
    line(has(&["version", "release"]), &[Recipe("matching('^[1-9]\\.[0-9]{1,2}\\.[0-9]$')", 7)]),
    line(has(&["gender", "sex"]), &[Pick(&[("f", 5), ("m", 5), ("x", 1)])]),
    line(has(&["street", "address", "address1", "address2", "addressline"]), &[Recipe("street", 30)]),
    line(
        has(&[
            "city",
            "town",
            "place",
            "origin",
            "birthplace",
            "hometown",
            "region",
            "location",
            "village",
            "county",
            "district",
            "country",
            "province",
            "site",
        ]),
        &[Recipe("place", 24)],
    ),
    line(
        When {
            has: &["created", "updated", "modified", "date", "timestamp"],
            least: 19,
            also: |subject, _| subject.words.len() < 4,
            ..ANY
        },
        &[Recipe("matching('^202[1-5]-(0[1-9]|1[0-2])-(0[1-9]|1[0-9]|2[0-8]) (0[0-9]|1[0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9]$')", 19)],
    ),
    line(has(&["slug", "permalink", "urlname"]), &[Own(slug), Recipe("slug(2..4)", 40), Recipe("slug(1)", 12)]),
    line(
        has(&["status", "state"]),
        &[Pick(&[("active", 6), ("pending", 2), ("closed", 2), ("failed", 1)]), Pick(&[("A", 6), ("P", 2), ("C", 2)])],
    ),
    line(has(&["protocol", "proto"]), &[Pick(&[("tcp", 5), ("udp", 3), ("icmp", 1)])]),
    line(
        has(&["organization", "organisation", "company", "firm", "vendor", "brand", "manufacturer", "department", "team", "institution"]),
        &[Recipe("title(1..2)", 16)],
    ),
    line(
        When {
            has: &[
                "preferences",
                "settings",
                "options",
                "params",
                "parameters",
                "config",
                "configuration",
                "metadata",
                "meta",
                "attributes",
                "properties",
                "payload",
                "extra",
                "json",
                "context",
            ],
            least: 501,
            ..ANY
        },
        &[Recipe("{ mode: pick('plain' 5, 'rich' 2), limit: exponential(40) in 1..500, tags: list(words(1), 0..3) }", 501)],
    ),
    // What holds whole things is as long as they are.
    line(When { ends: KEPT_WHOLE, least: 501, ..ANY }, &[Own(|_, room| Some(format!("text(200..{})", room.min(3_000))))]),
    line(When { ends: &["log", "recipe", "report", "transcript"], least: 200, ..ANY }, &[Own(long_text)]),
    line(has(&["signature"]), &[Recipe("text(20..120)", 200)]),
    line(
        When { has: &["type", "kind", "category", "class", "mode", "level"], not: &["name"], ..ANY },
        &[Pick(&[("standard", 6), ("basic", 3), ("special", 2), ("other", 1)]), Pick(&[("S", 6), ("B", 3), ("X", 1)])],
    ),
    line(
        has(&[
            "text",
            "body",
            "content",
            "message",
            "description",
            "bio",
            "abstract",
            "article",
            "html",
            "comment",
            "comments",
            "remarks",
            "remark",
            "note",
            "notes",
            "details",
            "reason",
            "summary",
            "info",
            "about",
            "instructions",
            "manual",
            "story",
            "biography",
            "review",
            "feedback",
            "explanation",
            "reasoning",
            "terms",
        ]),
        &[Own(long_text)],
    ),
    line(has(&["subject", "title", "headline", "caption"]), &[Recipe("title(3..8)", 60), Recipe("title(1..2)", 16)]),
    line(
        When { is: WHOLE_NAMES, least: 24, also: |subject, _| name_columns(subject).len() == 2, ..ANY },
        &[Own(|subject, _| Some(format!("name({})", name_columns(subject).join(", "))))],
    ),
    line(When { ends: &["id"], least: 8, also: |subject, _| subject.words.len() > 1, ..ANY }, &[Hex(16)]),
    line(
        When {
            has: &["author", "owner", "keeper", "manager", "editor", "creator", "contact", "assignee", "person"],
            is: &["fullname", "realname", "displayname", "contactname", "personname"],
            ..ANY
        },
        &[Recipe("name", 30)],
    ),
    line(When { is: &["name"], also: |subject, _| is_of_people(subject), ..ANY }, &[Recipe("name", 30)]),
    line(
        When {
            has: &[
                "code",
                "sku",
                "number",
                "ref",
                "reference",
                "serial",
                "label",
                "isbn",
                "ean",
                "barcode",
                "invoice",
                "abbrev",
                "abbreviation",
                "symbol",
                "tag",
            ],
            not: &["name"],
            ..ANY
        },
        &[Own(code)],
    ),
    line(has(&["key", "uid", "identifier", "hid"]), &[Recipe("slug(1..2)", 12), Hex(12)]),
    line(has(&["name", "names"]), &[Recipe("title(1..3)", 24), Recipe("words(1)", 8)]),
    line(
        has(&["value", "val", "setting", "option", "param", "data", "config", "options", "params", "settings"]),
        &[Recipe("words(1..4)", 24)],
    ),
];

fn hex(most: u64, room: u64) -> String {
    format!("hex({})", most.min(room).max(1))
}

/// Of two letters that stand for yes and no, the default's more often.
fn yes_no(subject: &Subject<'_>) -> Option<String> {
    let Some(Value::Text(text)) = subject.default() else { return None };
    match &**text {
        "N" | "n" => Some(format!("pick('{text}' 5, '{}' 1)", if &**text == "N" { "Y" } else { "y" })),
        "Y" | "y" => Some(format!("pick('{text}' 5, '{}' 1)", if &**text == "Y" { "N" } else { "n" })),
        "F" | "f" | "T" | "t" => Some("pick('F' 4, 'T' 1)".to_owned()),
        _ => None,
    }
}

fn email(subject: &Subject<'_>, room: u64) -> Option<String> {
    let names = name_columns(subject);
    Some(if names.is_empty() || room < 60 { "email".to_owned() } else { format!("email({})", names.join(", ")) })
}

fn digest(subject: &Subject<'_>, room: u64) -> Option<String> {
    let digits = match () {
        () if subject.has(&["md5"]) => 32,
        () if subject.has(&["sha1"]) => 40,
        () => 64,
    };
    Some(hex(digits, room))
}

fn slug(subject: &Subject<'_>, room: u64) -> Option<String> {
    title_column(subject).filter(|_| room >= 48).map(|title| format!("slug({title})"))
}

fn long_text(subject: &Subject<'_>, room: u64) -> Option<String> {
    let most = match () {
        () if subject.has(&["body", "content", "article", "html", "log", "transcript", "manual"]) => 3000,
        () if subject.has(&["recipe", "report", "instructions", "story", "biography", "review", "terms"]) => 1200,
        () if subject.has(&["text", "message", "description", "bio", "abstract"]) => 400,
        () => 160,
    };
    let most = most.min(room);
    Some(if most < 12 { "words(1)".to_owned() } else { format!("text({}..{most})", (most / 10).max(8).min(most)) })
}

fn code(subject: &Subject<'_>, room: u64) -> Option<String> {
    let pattern = if subject.has(&["ean", "isbn", "barcode"]) { "#############" } else { "@@-#####" };
    let pattern: String = match room {
        0..8 => "@##@##@".chars().take(room as usize).collect(),
        _ => pattern.chars().take(room.min(13) as usize).collect(),
    };
    Some(format!("code('{pattern}')"))
}

fn is_of_bills(subject: &Subject<'_>) -> bool {
    const BILLS: [&str; 8] = ["invoice", "invoices", "bill", "bills", "receipt", "receipts", "order", "orders"];
    let of_table = name_words(&subject.schema.table(subject.table).name);
    of_table.last().is_some_and(|word| BILLS.contains(&word.as_str())) && subject.words.len() == 1 || subject.has(&BILLS)
}

/// A column that this one's address is made from.
fn title_column(subject: &Subject<'_>) -> Option<String> {
    let table = subject.schema.table(subject.table);
    let fits = |at: usize, column: &kampf_schema::Column| {
        at != subject.id
            && matches!(column.kind, LogicalType::Text { .. })
            && column.computed.is_none()
            && matches!(name_words(&column.name).concat().as_str(), "title" | "name" | "headline")
    };
    table.columns.iter().enumerate().find(|(at, column)| fits(*at, column)).map(|(_, column)| named(&column.name))
}
