//! PDF out of SVG pages; text stays text.

use std::collections::HashMap;
use std::sync::Arc;

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref};
use svg2pdf::usvg;

use crate::chart::ChartError;
use crate::text::{FAMILY, font};

/// One page for each drawing, of its size in points.
pub(crate) fn pages(drawings: &[String]) -> Result<Vec<u8>, ChartError> {
    let wrong = |error: &dyn std::fmt::Display| ChartError::Pdf(error.to_string());
    let options = options();
    let mut next = Ref::new(1);
    let (catalog, tree) = (next.bump(), next.bump());
    let pages: Vec<Ref> = drawings.iter().map(|_| next.bump()).collect();
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(tree);
    pdf.pages(tree).kids(pages.iter().copied()).count(pages.len() as i32);
    for (drawing, page) in drawings.iter().zip(pages) {
        let parsed = usvg::Tree::from_str(drawing, &options).map_err(|error| wrong(&error))?;
        let (width, height) = (parsed.size().width(), parsed.size().height());
        let converted = svg2pdf::to_chunk(&parsed, svg2pdf::ConversionOptions::default());
        let (chunk, object) = converted.map_err(|error| wrong(&error))?;
        let mut numbers = HashMap::new();
        let chunk = chunk.renumber(|old| *numbers.entry(old).or_insert_with(|| next.bump()));
        let object = numbers.get(&object).copied().ok_or_else(|| wrong(&"an object is missing"))?;
        let contents = next.bump();
        let mut written = pdf.page(page);
        let media = Rect::new(0.0, 0.0, width, height);
        written.media_box(media).parent(tree).contents(contents);
        written.resources().x_objects().pair(Name(b"S"), object);
        written.finish();
        let mut content = Content::new();
        content.transform([width, 0.0, 0.0, height, 0.0, 0.0]).x_object(Name(b"S"));
        pdf.stream(contents, &content.finish());
        pdf.extend(&chunk);
    }
    Ok(pdf.finish())
}

/// The font that is carried along, and for scripts that it does not have those of the system.
fn options() -> usvg::Options<'static> {
    let mut fonts = usvg::fontdb::Database::new();
    fonts.load_font_data(font().to_vec());
    fonts.load_system_fonts();
    fonts.set_sans_serif_family(FAMILY);
    let family = FAMILY.to_owned();
    usvg::Options { fontdb: Arc::new(fonts), font_family: family, ..usvg::Options::default() }
}
