//! Guesses for texts.

use kampf_schema::{Form, LogicalType, Value, name_words};

use super::{Guess, Subject, guess, named, written};

/// Tables whose rows are people.
const PEOPLE: [&str; 50] = [
    "user",
    "users",
    "person",
    "people",
    "persons",
    "customer",
    "customers",
    "employee",
    "employees",
    "keeper",
    "keepers",
    "contact",
    "contacts",
    "author",
    "authors",
    "member",
    "members",
    "owner",
    "owners",
    "student",
    "students",
    "teacher",
    "teachers",
    "patient",
    "patients",
    "staff",
    "client",
    "clients",
    "identity",
    "identities",
    "account",
    "accounts",
    "admin",
    "admins",
    "agent",
    "agents",
    "driver",
    "drivers",
    "guest",
    "guests",
    "participant",
    "participants",
    "subscriber",
    "subscribers",
    "attendee",
    "attendees",
    "player",
    "players",
    "profile",
    "profiles",
];

/// So long a text is made without being asked for one; where a check wants a longer one, no row fits, which is said.
const MOST_LETTERS: u64 = 20_000;

pub(super) fn text(subject: &Subject<'_>) -> Guess {
    if let Some(recipe) = by_form(subject) {
        return guess(recipe, "its type");
    }
    let bounds = subject.bounds;
    if let Some(shape) = &bounds.shape {
        return guess(format!("matching({})", written(&Value::from(shape.as_str()))), "a check");
    }
    let room = bounds.longest.unwrap_or(u64::MAX).max(1);
    if bounds.lower && !bounds.upper && bounds.shortest <= 1 && room >= 12 {
        // Much is in small letters anyway.
        let natural = by_name(subject, room)
            .filter(|recipe| ["host", "email", "login", "url", "slug", "hex", "uuid4"].iter().any(|small| recipe.starts_with(small)));
        return guess(natural.unwrap_or_else(|| "slug(1..2)".to_owned()), "a check");
    }
    if bounds.shortest > 1 || bounds.lower || bounds.upper {
        let length = bounds.shortest.max(6).min(room).max(bounds.shortest).min(MOST_LETTERS);
        let letter = if bounds.upper { '@' } else { '&' };
        return guess(format!("code('{}')", letter.to_string().repeat(length as usize)), "a check");
    }
    let recipe = by_name(subject, room);
    match recipe {
        Some(recipe) => guess(recipe, "its name"),
        None => fallback(subject, room),
    }
}

fn by_form(subject: &Subject<'_>) -> Option<String> {
    Some(match subject.column.form {
        Form::Plain => return None,
        Form::Json => "{ source: pick('web' 5, 'import' 2, 'api' 1), size: exponential(20) in 1..500, note: words(2..6) or null 30%, tags: list(words(1), 0..3) }".to_owned(),
        Form::Address => "address".to_owned(),
        Form::Network => r"matching('^10\.[1-9][0-9]\.[0-9]\.0/24$')".to_owned(),
        Form::MacAddress => "code('02:~~:~~:~~:~~:~~')".to_owned(),
        Form::Time => "daytime".to_owned(),
        Form::Interval => "length('1 minute'..'8 hours')".to_owned(),
        Form::Bits(bits) => format!("bits({})", if bits == 0 { "1..8".to_owned() } else { bits.to_string() }),
        Form::Xml => "matching('^<note><size>[0-9]{1,3}</size><text>[a-z]{4,12}</text></note>$')".to_owned(),
        Form::Point => r"matching('^\(([6-9]|1[0-4])\.[0-9]{4},(4[7-9]|5[0-4])\.[0-9]{4}\)$')".to_owned(),
        Form::Range => r"matching('^\[[1-4][0-9],[5-9][0-9]\)$')".to_owned(),
        Form::Several => {
            let words: Vec<String> = subject.column.words.iter().map(|word| written(&Value::from(word.as_str()))).collect();
            format!("some({})", words.join(", "))
        }
        Form::Array(LogicalType::Integer) => "list(1..1000, 0..5)".to_owned(),
        Form::Array(LogicalType::Decimal { .. } | LogicalType::Real) => "list(0.00..100.00, 0..5)".to_owned(),
        Form::Array(_) => "list(words(1), 0..4)".to_owned(),
        Form::Search => "words(4..12)".to_owned(),
    })
}

/// The columns with the names of a person, where the table has them.
fn name_columns(subject: &Subject<'_>) -> Vec<String> {
    let table = subject.schema.table(subject.table);
    let find = |names: &[&str]| {
        table
            .columns
            .iter()
            .enumerate()
            .find(|(at, column)| {
                *at != subject.id
                    && matches!(column.kind, LogicalType::Text { .. })
                    && !column.nullable
                    && names.contains(&name_words(&column.name).concat().as_str())
            })
            .map(|(_, column)| named(&column.name))
    };
    let first = find(&["firstname", "givenname", "forename", "fname"]);
    let last = find(&["lastname", "surname", "familyname", "lname"]);
    match (first, last) {
        (Some(first), Some(last)) => vec![first, last],
        _ => find(&["name", "fullname", "realname", "displayname"]).filter(|_| is_of_people(subject)).into_iter().collect(),
    }
}

fn is_of_people(subject: &Subject<'_>) -> bool {
    name_words(&subject.schema.table(subject.table).name).iter().any(|word| PEOPLE.contains(&word.as_str()))
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

fn by_name(subject: &Subject<'_>, room: u64) -> Option<String> {
    let has = |words: &[&str]| subject.has(words);
    let is = |names: &[&str]| subject.is(names);
    // A choice of words is one only where all fit.
    let pick = |words: &[(&str, u32)]| {
        let fits = words.iter().all(|(word, _)| word.chars().count() as u64 <= room);
        fits.then(|| format!("pick({})", words.iter().map(|(word, weight)| format!("'{word}' {weight}")).collect::<Vec<_>>().join(", ")))
    };
    let fitting = |recipe: &str, least: u64| (room >= least).then(|| recipe.to_owned());
    let hex = |most: u64| Some(format!("hex({})", most.min(room).max(1)));
    let yes_no = || match subject.default() {
        Some(Value::Text(text)) => match &**text {
            "N" | "n" => Some(format!("pick('{text}' 5, '{}' 1)", if &**text == "N" { "Y" } else { "y" })),
            "Y" | "y" => Some(format!("pick('{text}' 5, '{}' 1)", if &**text == "Y" { "N" } else { "n" })),
            "F" | "f" | "T" | "t" => Some("pick('F' 4, 'T' 1)".to_owned()),
            _ => None,
        },
        _ => None,
    };
    match () {
        () if room <= 3 && yes_no().is_some() => yes_no(),
        () if subject.column.default == Some(kampf_schema::Default::Value(Value::from("")))
            && room <= 5
            && has(&[
                "enabled", "disabled", "deleted", "active", "locked", "hidden", "show", "is", "has", "allow", "public", "private",
            ]) =>
        {
            pick(&[("", 6), ("on", 1)])
        }
        () if is(&["replyto", "bcc", "cc", "sender", "recipient", "fromaddress", "toaddress", "from", "to", "mailfrom", "rcptto"]) => {
            fitting("email", 30)
        }
        () if has(&["email", "mail", "emailaddress"])
            && room >= 24
            && !has(&["body", "subject", "text", "host", "server", "template", "id"]) =>
        {
            let names = name_columns(subject);
            Some(if names.is_empty() || room < 60 { "email".to_owned() } else { format!("email({})", names.join(", ")) })
        }
        () if has(&["uuid", "guid"]) && room >= 32 => Some(if room >= 36 { "uuid4".to_owned() } else { "hex(32)".to_owned() }),
        () if has(&["password", "passwd", "hash", "digest", "checksum", "salt", "sha1", "sha256", "md5"])
            || subject.holds(&["checksum", "md5"])
            || has(&["signature"]) && room <= 512 =>
        {
            hex(if has(&["md5"]) {
                32
            } else if has(&["sha1"]) {
                40
            } else {
                64
            })
        }
        () if has(&["token", "secret", "session", "sessionid", "apikey", "nonce", "fingerprint", "etag", "cookie"])
            && !has(&["user", "type", "name"]) =>
        {
            hex(32)
        }
        () if has(&["url", "uri", "link", "website", "homepage", "href", "webpage"]) => fitting("url", 60),
        () if has(&["phone", "tel", "telephone", "mobile", "fax", "cell", "msisdn"])
            || has(&["number"])
                && has(&["sender", "destination", "caller", "callee", "recipient", "smsc", "contact", "calling", "called"]) =>
        {
            fitting("phone", 14)
        }
        () if is(&["imei", "imsi"]) => fitting("code('###############')", 15),
        () if is(&["firstname", "givenname", "forename", "fname"]) => fitting("first_name", 12),
        () if is(&["lastname", "surname", "familyname", "lname"]) => fitting("last_name", 20),
        () if has(&["username", "login", "nick", "nickname", "account", "userid"]) || is(&["user", "uid", "username", "loginname"]) => {
            fitting("login", 12)
        }
        () if subject.holds(&["ipv6"]) => fitting("matching('^fd00(:[1-9a-f][0-9a-f]{3}){2}::[1-9a-f][0-9a-f]{3}$')", 22),
        () if has(&["ip", "ipaddress", "ipaddr", "addr"]) || subject.holds(&["ipaddress", "ipaddr"]) => fitting("address", 15),
        () if has(&["mac", "macaddress"]) => fitting("code('02:~~:~~:~~:~~:~~')", 17),
        () if has(&["host", "hostname", "domain", "server", "fqdn", "realm", "nameserver"]) => fitting("host", 24),
        () if is(&["filename", "basename"]) || has(&["filename"]) => fitting("matching('^[a-z]{3,12}\\.(txt|csv|log|pdf|jpg|zip)$')", 20),
        () if has(&["path", "file", "dir", "directory", "folder"]) => {
            fitting("matching('^/(data|home|srv)/[a-z]{3,8}/[a-z]{3,10}\\.(txt|csv|log|pdf)$')", 36)
        }
        () if has(&["mime", "mimetype", "contenttype"]) || is(&["contenttype"]) => {
            pick(&[("text/plain", 5), ("text/html", 3), ("application/json", 2), ("image/png", 1)])
        }
        () if has(&["lang", "language", "locale"]) => pick(&[("en", 5), ("de", 3), ("fr", 2), ("es", 1), ("it", 1)]),
        () if has(&["currency"]) => pick(&[("EUR", 6), ("USD", 3), ("GBP", 1), ("CHF", 1)]),
        () if has(&["timezone", "tz"]) => pick(&[("UTC", 5), ("+01:00", 3), ("+02:00", 1), ("-05:00", 1)]),
        () if has(&["country", "countrycode"]) && room == 2 => {
            pick(&[("DE", 9), ("FR", 5), ("IT", 4), ("ES", 3), ("NL", 2), ("PL", 2), ("AT", 1), ("SE", 1), ("CH", 1)])
        }
        () if has(&["country", "countrycode"]) && room == 3 => {
            pick(&[("DEU", 9), ("FRA", 5), ("ITA", 4), ("ESP", 3), ("NLD", 2), ("POL", 2), ("AUT", 1)])
        }
        () if is(&["country", "countryname"]) => {
            pick(&[("Germany", 9), ("France", 5), ("Italy", 4), ("Spain", 3), ("Netherlands", 2), ("Poland", 2), ("Austria", 1)])
        }
        () if has(&["arch", "architecture"]) => pick(&[("amd64", 7), ("arm64", 3), ("i386", 1), ("all", 1)]),
        () if has(&["os", "platform"]) => pick(&[("linux", 5), ("windows", 3), ("macos", 2), ("android", 2), ("ios", 1)]),
        () if has(&["role"]) => pick(&[("member", 12), ("editor", 4), ("admin", 1), ("guest", 1)]),
        () if has(&["priority", "severity", "importance"]) => pick(&[("normal", 7), ("low", 3), ("high", 2), ("urgent", 1)]),
        () if has(&["result", "outcome", "verdict"]) => pick(&[("success", 14), ("failure", 3), ("cancelled", 1), ("skipped", 1)]),
        () if has(&["visibility", "access"]) => pick(&[("private", 5), ("public", 3), ("internal", 1)]),
        () if has(&["environment", "env", "stage"]) => pick(&[("production", 6), ("staging", 2), ("test", 2), ("development", 1)]),
        () if has(&["encoding", "charset", "characterset"]) => pick(&[("utf-8", 9), ("iso-8859-1", 1), ("us-ascii", 1)]),
        () if has(&["payment", "paymentmethod"]) && has(&["method", "type", "kind"]) => {
            pick(&[("card", 6), ("transfer", 3), ("invoice", 2), ("cash", 1)])
        }
        () if has(&["method", "verb"]) => pick(&[("GET", 9), ("POST", 4), ("PUT", 1), ("DELETE", 1)]),
        () if has(&["channel", "source"]) && !has(&["name", "text", "code"]) && room < 500 => {
            pick(&[("web", 6), ("mobile", 3), ("api", 2), ("import", 1)])
        }
        () if has(&["plan", "tier"]) && room < 500 => pick(&[("free", 8), ("basic", 3), ("pro", 2), ("business", 1)]),
        () if has(&["unit", "uom"]) => pick(&[("pcs", 6), ("kg", 3), ("m", 2), ("l", 1)]),
        () if has(&["zip", "zipcode", "postcode", "postalcode", "plz"]) => fitting("code('#####')", 5),
        () if has(&["color", "colour"]) => fitting("matching('^#[0-9a-f]{6}$')", 7).or_else(|| hex(6)),
        () if has(&["version", "release"]) => fitting("matching('^[1-9]\\.[0-9]{1,2}\\.[0-9]$')", 7),
        () if has(&["gender", "sex"]) => pick(&[("f", 5), ("m", 5), ("x", 1)]),
        () if has(&["street", "address", "address1", "address2", "addressline"]) => fitting("street", 30),
        () if has(&[
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
        ]) =>
        {
            fitting("place", 24)
        }
        () if has(&["created", "updated", "modified", "date", "timestamp"]) && room >= 19 && subject.words.len() < 4 => {
            Some("matching('^202[1-5]-(0[1-9]|1[0-2])-(0[1-9]|1[0-9]|2[0-8]) (0[0-9]|1[0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9]$')".to_owned())
        }
        () if has(&["slug", "permalink", "urlname"]) => title_column(subject)
            .map(|title| format!("slug({title})"))
            .filter(|_| room >= 48)
            .or_else(|| fitting("slug(2..4)", 40))
            .or_else(|| fitting("slug(1)", 12)),
        () if has(&["status", "state"]) => {
            pick(&[("active", 6), ("pending", 2), ("closed", 2), ("failed", 1)]).or_else(|| pick(&[("A", 6), ("P", 2), ("C", 2)]))
        }
        () if has(&["protocol", "proto"]) => pick(&[("tcp", 5), ("udp", 3), ("icmp", 1)]),
        () if has(&[
            "organization",
            "organisation",
            "company",
            "firm",
            "vendor",
            "brand",
            "manufacturer",
            "department",
            "team",
            "institution",
        ]) =>
        {
            fitting("title(1..2)", 16)
        }
        () if room > 500
            && has(&[
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
            ]) =>
        {
            Some("{ mode: pick('plain' 5, 'rich' 2), limit: exponential(40) in 1..500, tags: list(words(1), 0..3) }".to_owned())
        }
        () if room > 500
            && subject
                .ends(&["data", "vars", "vcard", "card", "cards", "document", "cache", "blob", "markdown", "payload", "dump", "raw"]) =>
        {
            // What holds whole things is as long as they are.
            Some(format!("text(200..{})", room.min(3_000)))
        }
        () if has(&["signature"]) => fitting("text(20..120)", 200),
        () if has(&["type", "kind", "category", "class", "mode", "level"]) && !has(&["name"]) => {
            pick(&[("standard", 6), ("basic", 3), ("special", 2), ("other", 1)]).or_else(|| pick(&[("S", 6), ("B", 3), ("X", 1)]))
        }
        () if has(&[
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
        ]) =>
        {
            let most = match () {
                () if has(&["body", "content", "article", "html"]) => 3000,
                () if has(&["text", "message", "description", "bio", "abstract"]) => 400,
                () => 160,
            };
            let most = most.min(room);
            Some(if most < 12 { "words(1)".to_owned() } else { format!("text({}..{most})", (most / 10).max(8).min(most)) })
        }
        () if has(&["subject", "title", "headline", "caption"]) => fitting("title(3..8)", 60).or_else(|| fitting("title(1..2)", 16)),
        () if is(&["fullname", "realname", "displayname", "personname"]) && name_columns(subject).len() == 2 && room >= 24 => {
            Some(format!("name({})", name_columns(subject).join(", ")))
        }
        () if subject.words.len() > 1 && subject.ends(&["id"]) && room >= 8 => hex(16),
        () if has(&["author", "owner", "keeper", "manager", "editor", "creator", "contact", "assignee", "person"])
            || is(&["fullname", "realname", "displayname", "contactname", "personname"])
            || is(&["name"]) && is_of_people(subject) =>
        {
            fitting("name", 30)
        }
        () if has(&[
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
        ]) && !has(&["name"]) =>
        {
            let pattern = if subject.has(&["ean", "isbn", "barcode"]) { "#############" } else { "@@-#####" };
            let pattern: String = if room < 8 {
                "@##@##@".chars().take(room as usize).collect()
            } else {
                pattern.chars().take(room.min(13) as usize).collect()
            };
            Some(format!("code('{pattern}')"))
        }
        () if has(&["key", "uid", "identifier", "hid"]) => Some(if room >= 12 { "slug(1..2)".to_owned() } else { format!("hex({room})") }),
        () if has(&["name", "names"]) => fitting("title(1..3)", 24).or_else(|| fitting("words(1)", 8)),
        () if has(&["value", "val", "setting", "option", "param", "data", "config", "options", "params", "settings"]) => {
            fitting("words(1..4)", 24)
        }
        () => None,
    }
}

fn fallback(subject: &Subject<'_>, room: u64) -> Guess {
    // A default says what the column mostly holds.
    if let Some(Value::Text(usual)) = subject.default()
        && !usual.is_empty()
    {
        if let Ok(number) = usual.parse::<i64>() {
            let width = usual.len().max(1);
            let others: Vec<String> = [number + 1, number + 2, number + 5]
                .iter()
                .map(ToString::to_string)
                .filter(|text| text.len() as u64 <= room)
                .map(|text| format!("'{text}' 1"))
                .collect();
            if !others.is_empty() && width < 10 {
                return guess(format!("pick({} 7, {})", written(&Value::Text(usual.clone())), others.join(", ")), "its default");
            }
        }
        return guess(written(&Value::Text(usual.clone())), "its default");
    }
    let recipe = match room {
        0..=2 => format!("code('{}')", "@".repeat(room as usize)),
        3..=7 => format!("code('{}')", "&".repeat(room as usize)),
        // What is short is one of few more often than a sentence; common words come as often as in a natural text.
        8..=64 => "words(1)".to_owned(),
        65..=500 => "words(1..2)".to_owned(),
        _ => "words(1..4)".to_owned(),
    };
    guess(recipe, "its type")
}
