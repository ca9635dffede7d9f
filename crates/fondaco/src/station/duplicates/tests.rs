//! The station Duplicates, key by key.
