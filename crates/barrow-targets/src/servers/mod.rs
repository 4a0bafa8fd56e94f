//! What database servers have in common: addresses, encryption, and a load whose rows are
//! sent in bytes.

pub mod address;
pub mod load;
pub mod loaded_table;
pub mod send;
pub mod tls;

pub use address::Server;
