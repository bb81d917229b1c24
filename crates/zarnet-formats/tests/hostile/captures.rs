//! Captures that were made to do harm.

use std::io::Write;
use std::path::Path;

use super::play;

/// Extension headers of IPv6 that run past the end of their frame, once read without looking where
/// it ends. Debug assertions are on here, in dependencies too.
#[test]
fn captures_that_found_a_fault_are_read_within_their_bounds() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples/captures");
    let mut seen = 0;
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        for skip_bad in [false, true] {
            let _ = play(path.clone(), skip_bad);
        }
        seen += 1;
    }
    assert_eq!(seen, 4);
}

/// Every beginning of a capture is read or refused.
#[test]
fn captures_may_end_anywhere() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples/captures");
    let whole = std::fs::read(folder.join("found-by-fuzzing.pcap")).unwrap();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    for end in (0..whole.len()).step_by(7) {
        file.as_file_mut().set_len(0).unwrap();
        std::io::Seek::rewind(file.as_file_mut()).unwrap();
        file.write_all(&whole[..end]).unwrap();
        let _ = play(file.path().into(), true);
    }
}

/// Blocks of every kind may say that they have any length.
#[test]
fn blocks_of_a_capture_may_say_that_they_have_any_length() {
    let kinds =
        (0..12).chain([0xbad, 0x4000_0bad, 0x8000_0000, 0x8000_0001, 0x8000_0002, 0x0a0d_0d0a]);
    let mut file = tempfile::NamedTempFile::new().unwrap();
    for kind in kinds {
        for (length, big) in (0..48).step_by(3).flat_map(|l: u32| [(l, false), (l, true)]) {
            let number = |n: u32| if big { n.to_be_bytes() } else { n.to_le_bytes() };
            let section = [
                0x0a0d_0d0a,
                28,
                0x1a2b_3c4d,
                if big { 1 << 16 } else { 1 },
                u32::MAX,
                u32::MAX,
                28,
            ];
            let block = [kind, length, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, length];
            let octets: Vec<u8> = section.into_iter().chain(block).flat_map(number).collect();
            file.as_file_mut().set_len(0).unwrap();
            std::io::Seek::rewind(file.as_file_mut()).unwrap();
            file.write_all(&octets).unwrap();
            let said = play(file.path().into(), false);
            assert!(length >= 12 || said.is_err(), "a block {kind:#x} of {length} octets");
        }
    }
}

/// A classic capture of one empty frame of a link type, in a version of the format.
fn capture_file(version: u16, link: u32) -> tempfile::NamedTempFile {
    let words = |list: &[u32]| list.iter().flat_map(|w| w.to_le_bytes()).collect::<Vec<u8>>();
    let header = [
        words(&[0xa1b2_c3d4]),
        [version.to_le_bytes(), 4u16.to_le_bytes()].concat(),
        words(&[0, 0, 65_535, link]),
    ];
    let frame = [words(&[1, 0, 20, 20]), vec![0; 20]].concat();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(&[header.concat(), frame].concat()).unwrap();
    file
}

#[test]
fn link_types_that_are_not_read_and_versions_that_there_are_not_are_named() {
    for link in [6, 8, 9, 192, 147, 10_000] {
        assert_eq!(
            play(capture_file(2, link).path().into(), false),
            Err(vec!["unsupported-link-type"])
        );
    }
    assert_eq!(play(capture_file(2, 1).path().into(), false), Ok(0), "Ethernet that holds no IP");
    for version in [0, 1, 3, 9] {
        assert_eq!(
            play(capture_file(version, 1).path().into(), false),
            Err(vec!["capture-malformed"])
        );
    }
}
