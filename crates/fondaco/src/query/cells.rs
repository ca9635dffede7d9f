//! Cells of tables: as people read them, and as they are.

use fondaco_core::lens::Accounts;
use fondaco_core::units::{Bytes, UnitStyle};
use serde_json::Value;

/// Bytes by 1024, as all text of the commands has them.
pub fn binary(bytes: Bytes) -> String {
    bytes.shown(UnitStyle::Binary)
}

/// A cell of bytes.
pub fn bytes(bytes: Bytes) -> (String, Value) {
    (binary(bytes), bytes.get().into())
}

/// A cell of text.
pub fn text(text: impl Into<String>) -> (String, Value) {
    let text = text.into();
    (text.clone(), text.into())
}

/// A cell with a share of the whole.
pub fn share(part: Bytes, whole: Bytes) -> (String, Value) {
    ((percent(part, whole)), ((part.share_of(whole) * 1e6).round() / 1e6).into())
}

/// A share of bytes in percent.
pub fn percent(part: Bytes, whole: Bytes) -> String {
    format!("{:.1} %", part.share_of(whole) * 100.0)
}

/// The name of a user, or the number with a mark.
pub fn user(accounts: &dyn Accounts, number: u32) -> String {
    named(accounts.user_name(number), number)
}

/// The name of a group, or the number with a mark.
pub fn group(accounts: &dyn Accounts, number: u32) -> String {
    named(accounts.group_name(number), number)
}

fn named(name: Option<String>, number: u32) -> String {
    name.unwrap_or_else(|| format!("{number} (no such account)"))
}
