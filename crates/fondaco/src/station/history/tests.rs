//! The history driven by keys.
