//! The examples run to their end.

#[path = "../examples/packet.rs"]
mod packet;

#[test]
fn packet_runs() {
    packet::main().unwrap();
}
