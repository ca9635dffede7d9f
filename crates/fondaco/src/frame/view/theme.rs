//! Colours and signs, for terminals of every sort.

use ratatui::buffer::Buffer;
use ratatui::style::{Color, Modifier, Style};

/// How many colours the terminal has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// Any colour of 24 bits.
    True,
    /// The 256 of xterm.
    Indexed,
    /// The 16 of old.
    Sixteen,
    /// None wanted, or none there.
    None,
}

/// What things look like. Colour is never the only signal: see the signs in each view.
#[derive(Clone, Debug)]
pub struct Theme {
    /// The ground, and plain text on it.
    pub plain: Style,
    /// Text that may be overlooked.
    pub dim: Style,
    /// Thin rules between panels.
    pub rule: Style,
    /// The selected, and marks.
    pub brass: Style,
    /// The row that is selected.
    pub selected: Style,
    /// What stays; below the waterline.
    pub teal: Style,
    /// Relief that is planned.
    pub amber: Style,
    /// Trouble; above the waterline.
    pub trouble: Style,
    ascii: bool,
}

struct Shades {
    ground: Color,
    text: Color,
    dim: Color,
    rule: Color,
    brass: Color,
    lifted: Color,
    teal: Color,
    amber: Color,
    terracotta: Color,
}

const fn rgb(hex: u32) -> Color {
    Color::Rgb((hex >> 16) as u8, (hex >> 8) as u8, hex as u8)
}

const DARK: Shades = Shades {
    ground: rgb(0x0f_1720),
    text: rgb(0xe9_e3d2),
    dim: rgb(0x8d_98a3),
    rule: rgb(0x33_4250),
    brass: rgb(0xe0_b25a),
    lifted: rgb(0x1e_2b38),
    teal: rgb(0x3f_a79f),
    amber: rgb(0xe3_a02f),
    terracotta: rgb(0xd9_6b4e),
};

const LIGHT: Shades = Shades {
    ground: rgb(0xf6_f1e4),
    text: rgb(0x1d_2731),
    dim: rgb(0x66_6f76),
    rule: rgb(0xc9_c0ab),
    brass: rgb(0x8a_5e08),
    lifted: rgb(0xe8_dfc8),
    teal: rgb(0x11_766e),
    amber: rgb(0xa8_6a00),
    terracotta: rgb(0xb0_3f22),
};

const INDEXED: Shades = Shades {
    ground: Color::Indexed(234),
    text: Color::Indexed(254),
    dim: Color::Indexed(246),
    rule: Color::Indexed(239),
    brass: Color::Indexed(179),
    lifted: Color::Indexed(237),
    teal: Color::Indexed(73),
    amber: Color::Indexed(178),
    terracotta: Color::Indexed(173),
};

const INDEXED_LIGHT: Shades = Shades {
    ground: Color::Indexed(230),
    text: Color::Indexed(235),
    dim: Color::Indexed(241),
    rule: Color::Indexed(250),
    brass: Color::Indexed(94),
    lifted: Color::Indexed(223),
    teal: Color::Indexed(29),
    amber: Color::Indexed(130),
    terracotta: Color::Indexed(130),
};

/// The terminal's own ground and text, whatever they are.
const SIXTEEN: Shades = Shades {
    ground: Color::Reset,
    text: Color::Reset,
    dim: Color::Reset,
    rule: Color::Reset,
    brass: Color::Yellow,
    lifted: Color::Reset,
    teal: Color::Cyan,
    amber: Color::Yellow,
    terracotta: Color::Red,
};

impl Theme {
    /// The theme for a terminal.
    pub fn new(depth: Depth, light: bool, ascii: bool) -> Self {
        let shades = match (depth, light) {
            (Depth::True, false) => DARK,
            (Depth::True, true) => LIGHT,
            (Depth::Indexed, false) => INDEXED,
            (Depth::Indexed, true) => INDEXED_LIGHT,
            (Depth::Sixteen | Depth::None, _) => SIXTEEN,
        };
        let few = matches!(depth, Depth::Sixteen | Depth::None);
        let paint = |colour: Color| match depth {
            Depth::None => Style::new(),
            _ => Style::new().fg(colour).bg(shades.ground),
        };
        let dim =
            if few { paint(shades.dim).add_modifier(Modifier::DIM) } else { paint(shades.dim) };
        let selected = match depth {
            Depth::None => Style::new().add_modifier(Modifier::REVERSED),
            Depth::Sixteen => {
                Style::new().fg(shades.brass).add_modifier(Modifier::BOLD | Modifier::REVERSED)
            }
            _ => Style::new().fg(shades.brass).bg(shades.lifted).add_modifier(Modifier::BOLD),
        };
        Self {
            plain: paint(shades.text),
            dim,
            rule: if few { dim } else { paint(shades.rule) },
            brass: paint(shades.brass).add_modifier(Modifier::BOLD),
            selected,
            teal: paint(shades.teal),
            amber: paint(shades.amber),
            trouble: paint(shades.terracotta).add_modifier(Modifier::BOLD),
            ascii,
        }
    }

    /// A style as it is in a row that is selected, or not.
    pub fn in_row(&self, style: Style, selected: bool) -> Style {
        match (selected, self.selected.bg) {
            (true, Some(ground)) => style.bg(ground),
            _ => style,
        }
    }

    /// The theme for the terminal that the environment describes (`NO_COLOR`, `COLORTERM`, `TERM`,
    /// and the locale for whether it shows more than ASCII).
    pub fn of_environment(light: bool, ascii: bool) -> Self {
        let is = |name: &str| std::env::var(name).unwrap_or_default();
        let term = is("TERM");
        let depth = if crate::environment::no_colour() || term == "dumb" {
            Depth::None
        } else if matches!(is("COLORTERM").as_str(), "truecolor" | "24bit") {
            Depth::True
        } else if term.contains("256color") || term.contains("kitty") {
            Depth::Indexed
        } else {
            Depth::Sixteen
        };
        // the first that is set decides (locale(7)); none at all is the C locale
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().map(|n| is(n)).find(|v| !v.is_empty());
        let named = locale.unwrap_or_default().to_lowercase().replace('-', "");
        let shows_unicode = named.contains("utf8") || term.contains("kitty");
        Self::new(depth, light, ascii || !shows_unicode)
    }

    /// Replaces every sign that is not ASCII, where the terminal shows no others.
    pub fn finish(&self, buffer: &mut Buffer) {
        if !self.ascii {
            return;
        }
        for cell in &mut buffer.content {
            if !cell.symbol().is_ascii() {
                let plain = plain_sign(cell.symbol());
                cell.set_symbol(plain);
            }
        }
    }
}

fn plain_sign(sign: &str) -> &'static str {
    match sign {
        "█" | "▉" | "▊" | "▋" => "#",
        "▌" | "▍" | "▎" | "▏" => "|",
        "▒" => "/",
        "░" => ":",
        "▓" => "%",
        "╌" => "-",
        "┃" | "│" | "▕" => "|",
        "─" | "┬" | "┴" | "┼" | "—" | "–" => "-",
        "▸" | "→" => ">",
        "←" => "<",
        "↑" => "^",
        "↓" => "v",
        "·" | "•" => "-",
        "…" => "~",
        "▁" | "▂" => ".",
        "▃" | "▄" => "o",
        "▅" | "▆" => "O",
        "▇" => "@",
        "●" => "*",
        "○" => "o",
        "▲" => "^",
        "✓" => "+",
        "✗" => "x",
        "×" => "x",
        _ => "?",
    }
}
