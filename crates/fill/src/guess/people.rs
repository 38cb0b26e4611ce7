//! Tables whose rows are people, and the columns with their names.

use kampf_schema::{LogicalType, name_words};

use super::{Subject, named};

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

pub(super) const FIRST_NAMES: &[&str] = &["firstname", "givenname", "forename", "fname"];
pub(super) const LAST_NAMES: &[&str] = &["lastname", "surname", "familyname", "lname"];
pub(super) const WHOLE_NAMES: &[&str] = &["fullname", "realname", "displayname", "personname"];

/// The columns with the names of a person, where the table has them.
pub(super) fn name_columns(subject: &Subject<'_>) -> Vec<String> {
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
    let first = find(FIRST_NAMES);
    let last = find(LAST_NAMES);
    match (first, last) {
        (Some(first), Some(last)) => vec![first, last],
        _ => find(&["name", "fullname", "realname", "displayname"]).filter(|_| is_of_people(subject)).into_iter().collect(),
    }
}

/// Whether the rows of a column's table are people.
pub(super) fn is_of_people(subject: &Subject<'_>) -> bool {
    name_words(&subject.schema.table(subject.table).name).iter().any(|word| PEOPLE.contains(&word.as_str()))
}
