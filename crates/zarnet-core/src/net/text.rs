//! Text from files that a terminal, a browser or a reader could take for something else.

/// Whether a character acts instead of showing: controls (C0, DEL, C1), line and paragraph
/// separators, byte order marks and what turns or joins the text around it. Names and other values
/// of a plan hold none; what else comes from files is escaped where it is shown.
pub const fn is_hidden(c: char) -> bool {
    matches!(c,
        '\0'..='\x1f' | '\x7f'..='\u{9f}'
        | '\u{ad}' | '\u{61c}' | '\u{180e}'
        | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}'
        | '\u{feff}' | '\u{fff0}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}
