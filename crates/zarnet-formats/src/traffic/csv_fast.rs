//! The lines that nearly every flow list consists of, read where they lie, many octets at a time:
//! numbers, addresses and protocol names without quotes or spaces. A line of any other kind is left
//! to the careful reader, which also tells what is wrong with it. Nothing here branches on the
//! length of a field: lengths are what a processor guesses worst.

use std::net::IpAddr;

use zarnet_core::net::{Instant, Protocol};
use zarnet_core::traffic::Ending;
use zarnet_core::traffic::{Flow, Party};

use super::fields::Column;
use super::stretch::{ROOM, Stretch, letters};
use super::v6_fast as v6;

/// The columns of nearly every list, in their usual order; the last ones may be left out.
const USUAL: [Column; 8] = [
    Column::Start,
    Column::Protocol,
    Column::Source,
    Column::SourcePort,
    Column::Destination,
    Column::DestinationPort,
    Column::Lasts,
    Column::Ends,
];

/// Whether the lines of a list with these columns can be read here.
pub(super) fn suits(columns: &[Column]) -> bool {
    columns.len() >= 6 && USUAL.starts_with(columns)
}

/// The flow of the line that `text` begins with, with so many of the usual columns, and the line's
/// length with its end; if it is a plain line about TCP, UDP or ICMP between IPv4 addresses.
#[inline(always)]
pub(super) fn flow(text: &[u8; ROOM], columns: usize) -> Option<(Flow, usize)> {
    let mut line = Stretch::new(text.first_chunk()?);
    let (start, protocol) = line.beginning()?;
    let source = line.address();
    let (source_port, mark) = line.port();
    line.expect(mark, b',');
    let destination = line.address();
    let (mut faults, mut length) = (line.faults(), 0);
    if line.has_no_end() {
        length = line.at;
        line = Stretch::new(text.get(length..)?.first_chunk()?);
    }
    let rest = line.rest(protocol, columns)?;
    faults |= line.faults();
    let party = |a: u32| Party::Address(IpAddr::V4(a.into()));
    let ends = (party(source), source_port, party(destination));
    (faults == 0).then_some((flow_of((start, protocol), ends, rest), length + line.at))
}

/// The same of a line between IPv6 addresses.
#[inline(never)]
pub(super) fn flow_v6(text: &[u8; ROOM], columns: usize) -> Option<(Flow, usize)> {
    let part = |from: usize| Some(Stretch::new(text.get(from..)?.first_chunk()?));
    let mut line = Stretch::new(text.first_chunk()?);
    let (start, protocol) = line.beginning()?;
    let (mut faults, mut length) = (line.faults(), line.at);
    let (source, behind) = v6::address(text.get(length..)?.first_chunk()?)?;
    length += behind;
    line = part(length)?;
    let (source_port, mark) = line.port();
    line.expect(mark, b',');
    faults |= line.faults();
    length += line.at;
    let (destination, behind) = v6::address(text.get(length..)?.first_chunk()?)?;
    length += behind;
    line = part(length)?;
    let rest = line.rest(protocol, columns)?;
    faults |= line.faults();
    let party = |a: u128| Party::Address(IpAddr::V6(a.into()));
    let ends = (party(source), source_port, party(destination));
    (faults == 0).then_some((flow_of((start, protocol), ends, rest), length + line.at))
}

/// What stands behind the addresses: the destination's port, how long the flow lasts, and how it
/// ends.
type Rest = (Option<u16>, u64, Option<Ending>);

#[inline(always)]
fn flow_of(
    (start, protocol): (u64, Protocol),
    (source, source_port, destination): (Party, Option<u16>, Party),
    (destination_port, lasts, ending): Rest,
) -> Flow {
    Flow {
        start: Instant(start),
        protocol,
        source,
        source_port,
        destination,
        destination_port: destination_port.filter(|_| protocol.has_ports()),
        lasts,
        ending,
        round_trip: None,
    }
}

impl Stretch<'_> {
    /// The instant and the protocol that a line begins with.
    #[inline(always)]
    fn beginning(&mut self) -> Option<(u64, Protocol)> {
        const TCP: u64 = letters(b"tcp");
        const UDP: u64 = letters(b"udp");
        const ICMP: u64 = letters(b"icmp");
        let (start, mark) = self.seconds();
        self.expect(mark, b',');
        let (protocol, mark) = self.word();
        self.expect(mark, b',');
        // computed, not decided: which comes next is hard to guess
        let known = [(TCP, Protocol::TCP), (UDP, Protocol::UDP), (ICMP, Protocol::ICMP)];
        let protocol = known.iter().map(|(word, p)| u8::from(protocol == *word) * p.0).sum();
        (protocol > 0).then_some((start, Protocol(protocol)))
    }

    /// What stands behind the addresses of a line, to its end; with so many of the usual columns.
    #[inline(always)]
    fn rest(&mut self, protocol: Protocol, columns: usize) -> Option<Rest> {
        const NOTHING: u64 = letters(b"");
        const CLOSE: u64 = letters(b"close");
        const RESET: u64 = letters(b"reset");
        const SILENT: u64 = letters(b"silent");
        let (destination_port, mut mark) = self.port();
        let mut lasts = 0;
        if columns > 6 {
            self.expect(mark, b',');
            (lasts, mark) = self.seconds();
        }
        let mut ending = None;
        if columns > 7 {
            self.expect(mark, b',');
            let (word, behind) = self.word();
            mark = behind;
            ending = match word {
                NOTHING => None,
                CLOSE => Some(Ending::Close),
                RESET => Some(Ending::Reset),
                SILENT => Some(Ending::Silent),
                _ => return None,
            };
        }
        if mark == b'\r' {
            let end = self.next();
            self.wrong |= end.length as u64;
            mark = end.mark;
        }
        self.expect(mark, b'\n');
        let ports = protocol.has_ports();
        // no port where there must be one, or one where there is none
        let missing = ports & destination_port.is_none();
        let not_possible = !ports & (destination_port.unwrap_or(0) > 0);
        (!(missing | not_possible)).then_some((destination_port, lasts, ending))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use zarnet_core::plan::Plan;

    use super::super::clock::Clock;
    use super::super::csv_list::careful;
    use super::super::fields::{COLUMNS, Context};
    use super::super::names::Names;
    use super::*;

    fn near_plain() -> impl Strategy<Value = String> {
        prop_oneof![
            line_with("[0-9]{1,3}(\\.[0-9]{1,3}){3}|[12]?[0-9]?[0-9](\\.[12]?[0-9]?[0-9]){3}"),
            line_with(
                "([0-9a-f]{1,4}:){1,7}(:[0-9a-f]{1,4}){1,6}|[0-9a-fA-F]{1,5}(:[0-9a-f]{1,4}){7}|::"
            ),
        ]
    }

    fn line_with(address: &'static str) -> impl Strategy<Value = String> {
        let field = |plain: &'static str| prop_oneof![9 => plain, 1 => "[0-9a-z. :\"-]{0,12}"];
        let address = || field(address);
        let time = || field("[0-9]{1,9}(\\.[0-9]{0,9})?");
        let port = || field("[0-9]{0,6}");
        (
            time(),
            field("tcp|udp|icmp|gre"),
            address(),
            port(),
            address(),
            port(),
            time(),
            field("|close|reset|silent"),
        )
            .prop_map(|(a, b, c, d, e, f, g, h)| format!("{a},{b},{c},{d},{e},{f},{g},{h}"))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// What is read the fast way is read the same the careful way.
        #[test]
        fn plain_lines_mean_the_same_to_both_readers(line in near_plain(), cut in 0usize..80) {
            let columns: Vec<Column> = COLUMNS.iter().take(8).map(|c| c.1).collect();
            prop_assert!(suits(&columns));
            let (names, mut clock) = (Names::new(&Plan::default()), Clock::default());
            let context = &mut Context { names: &names, clock: &mut clock };
            let cut = line.len().min(if cut < 70 { usize::MAX } else { cut - 60 });
            let line = &line.as_bytes()[..cut];
            let mut text = [b'7'; ROOM];
            text[..line.len()].copy_from_slice(line);
            for end in [&b"\n"[..], b"\r\n"] {
                text[line.len()..][..end.len()].copy_from_slice(end);
                let fast = [flow(&text, columns.len()), flow_v6(&text, columns.len())];
                for (plain, length) in fast.into_iter().flatten() {
                    prop_assert_eq!(length, line.len() + end.len());
                    prop_assert_eq!(careful(line, &columns, context), Ok(plain));
                }
            }
        }
    }

    /// The short way is for what is usual, or it would be of no use.
    #[test]
    fn usual_lines_are_plain() {
        for line in [
            "0.000,tcp,10.64.27.206,47226,198.18.148.68,6829,0.073,",
            "86399.9999999,icmp,192.168.100.200,65535,198.51.100.200,,86399.999,silent",
            "12,udp,10.0.0.1,,203.0.113.7,53,0,close",
        ] {
            let mut text = [0; ROOM];
            text[..line.len()].copy_from_slice(line.as_bytes());
            text[line.len()] = b'\n';
            assert!(flow(&text, 8).is_some(), "{line}");
        }
        for line in [
            "0.000,tcp,fd00:0:0:1::a40:4074,65085,2001:db8:2::c612:be3f,443,0.057,",
            "86399.999,icmp,fd00:1234:5678:9abc:def0:1234:5678:9ABC,65535,2001:db8:ffff:ffff:ffff:ffff:ffff:ffff,,\
             86399.999,silent",
            "12,udp,::1,,fe80::,53,0,close",
        ] {
            let mut text = [0; ROOM];
            text[..line.len()].copy_from_slice(line.as_bytes());
            text[line.len()] = b'\n';
            assert!(flow_v6(&text, 8).is_some(), "{line}");
        }
    }
}
