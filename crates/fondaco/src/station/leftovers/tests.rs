//! The station driven by keys.
