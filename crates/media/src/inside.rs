//! The film that a picture carries with it: behind its own bytes, or in a box among its own. Phones write the second before and after the press so.
//!
//! It is found by what it is, an ISO base media file (ISO/IEC 14496-12): boxes one behind the other, of which the first is `ftyp` and among which are
//! a movie's header and its data. What its maker wrote elsewhere about where it lies is not asked: each writes that in a way of its own, and programs that
//! copy pictures lose it.

use std::io::{self, Read, Seek, SeekFrom};

use ypogeion_core::capture::FilmInside;

/// A picture's own first box may be one of these; a film inside it begins later.
const OWN: u64 = 8;
/// So many bytes are looked through at once.
const PIECE: usize = 256 << 10;
/// So many beginnings are looked at; no file has as many.
const MOST_BEGINNINGS: usize = 64;
/// And so many boxes behind each.
const MOST_BOXES: usize = 512;
/// `ftyp` names a brand, a version, and some more brands.
const FTYP: std::ops::RangeInclusive<u64> = 16..=512;

/// Where the film inside a picture is, if there is one.
pub fn film(file: &mut (impl Read + Seek)) -> io::Result<Option<FilmInside>> {
    let length = file.seek(SeekFrom::End(0))?;
    let (mut at, mut piece, mut beginnings) = (OWN, vec![0; PIECE], 0);
    while at < length {
        file.seek(SeekFrom::Start(at))?;
        let read = read_full(file, &mut piece)?;
        for found in memchr::memmem::find_iter(&piece[..read], b"ftyp") {
            beginnings += 1;
            if beginnings > MOST_BEGINNINGS {
                return Ok(None);
            }
            let Some(start) = (at + found as u64).checked_sub(4).filter(|start| *start >= OWN) else { continue };
            if let Some(end) = movie(file, start, length)? {
                return Ok(Some(FilmInside { at: start, length: end - start }));
            }
        }
        if read < PIECE {
            break;
        }
        // A beginning may lie across the edge.
        at += (read - 3) as u64;
    }
    Ok(None)
}

/// Where the boxes end that begin here, if they are a movie.
fn movie(file: &mut (impl Read + Seek), start: u64, length: u64) -> io::Result<Option<u64>> {
    let (mut at, mut header, mut data) = (start, false, false);
    for n in 0..MOST_BOXES {
        let Some((kind, size)) = one(file, at, length)? else { break };
        if n == 0 && !(kind == *b"ftyp" && FTYP.contains(&size)) {
            return Ok(None);
        }
        header |= kind == *b"moov";
        data |= kind == *b"mdat";
        at += size;
    }
    Ok((header && data).then_some(at))
}

/// The box that begins here: its kind, and its size with all that is in it. None: nothing that begins here is one.
fn one(file: &mut (impl Read + Seek), at: u64, length: u64) -> io::Result<Option<([u8; 4], u64)>> {
    let left = length - at;
    let mut head = [0; 16];
    file.seek(SeekFrom::Start(at))?;
    let read = read_full(file, &mut head)?;
    if read < 8 {
        return Ok(None);
    }
    let kind = [head[4], head[5], head[6], head[7]];
    if !kind.iter().all(|b| b.is_ascii_graphic() || *b == b' ') {
        return Ok(None);
    }
    let four = |at: usize| u64::from(u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]));
    let size = match four(0) {
        // To the end of the file.
        0 => left,
        1 if read == 16 => four(8) << 32 | four(12),
        size => size,
    };
    let least = if four(0) == 1 { 16 } else { 8 };
    Ok((least..=left).contains(&size).then_some((kind, size)))
}

fn read_full(file: &mut impl Read, into: &mut [u8]) -> io::Result<usize> {
    let mut read = 0;
    while read < into.len() {
        match file.read(&mut into[read..]) {
            Ok(0) => break,
            Ok(more) => read += more,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(read)
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use rstest::rstest;

    use super::*;

    fn boxed(kind: &[u8; 4], body: &[u8]) -> Vec<u8> {
        [&(body.len() as u32 + 8).to_be_bytes()[..], kind, body].concat()
    }

    fn large(kind: &[u8; 4], body: &[u8]) -> Vec<u8> {
        [&1u32.to_be_bytes()[..], kind, &(body.len() as u64 + 16).to_be_bytes(), body].concat()
    }

    fn movie_of(parts: &[Vec<u8>]) -> Vec<u8> {
        [&boxed(b"ftyp", b"isom\0\0\x02\0isomiso2")[..], &parts.concat()].concat()
    }

    fn whole() -> Vec<u8> {
        movie_of(&[boxed(b"moov", &[7; 300]), boxed(b"mdat", &[9; 5000])])
    }

    fn found(bytes: &[u8]) -> Option<(usize, usize)> {
        film(&mut Cursor::new(bytes)).unwrap().map(|f| (f.at as usize, f.length as usize))
    }

    #[test]
    fn a_film_behind_a_picture_is_found_wherever_it_lies() {
        let film = whole();
        // Also across the edges of what is looked through at once.
        for before in [20, 4096, PIECE - 8, PIECE - 5, PIECE - 3, PIECE, PIECE + 4, 2 * PIECE + 1] {
            let picture = vec![0xff; before];
            assert_eq!(found(&[&picture[..], &film].concat()), Some((before, film.len())), "{before}");
            // What a maker writes behind it is no box, and not of it.
            assert_eq!(found(&[&picture[..], &film, b"\x00\x00\x04\x00more of its own"].concat()), Some((before, film.len())));
        }
        let boxes = [boxed(b"mdat", &[1; 40]), large(b"moov", &[2; 90]), boxed(b"free", b"")];
        let film = movie_of(&boxes);
        assert_eq!(found(&[&[0; 100][..], &film].concat()), Some((100, film.len())), "in another order, with a large box");
        let open = movie_of(&[boxed(b"moov", &[1; 40]), [&[0; 4][..], b"mdat", &[3; 70]].concat()]);
        assert_eq!(found(&[&[0; 100][..], &open].concat()), Some((100, open.len())), "to the end of the file");
    }

    #[test]
    fn a_film_in_a_box_of_a_picture_is_found() {
        let own = [boxed(b"ftyp", b"heic\0\0\0\0mif1heic"), boxed(b"meta", &[1; 200]), boxed(b"mdat", &[2; 900])].concat();
        assert_eq!(found(&own), None, "what it is itself is no film inside it");
        let film = whole();
        let with = [&own[..], &boxed(b"mpvd", &film)].concat();
        assert_eq!(found(&with), Some((own.len() + 8, film.len())));
    }

    #[rstest]
    #[case::nothing(Vec::new())]
    #[case::no_data(movie_of(&[boxed(b"moov", &[7; 300])]))]
    #[case::no_header(movie_of(&[boxed(b"mdat", &[7; 300])]))]
    #[case::words(b"what is called ftyp, moov and mdat".to_vec())]
    #[case::too_large(movie_of(&[boxed(b"moov", &[7; 30]), [&9000u32.to_be_bytes()[..], b"mdat", &[1; 10]].concat()]))]
    #[case::without_end(movie_of(&[[&1u32.to_be_bytes()[..], b"moov", &u64::MAX.to_be_bytes()].concat()]))]
    #[case::of_no_size(movie_of(&[[&4u32.to_be_bytes()[..], b"moov", &[0; 60]].concat()]))]
    #[case::another_beginning([boxed(b"ftyp", b""), boxed(b"moov", b""), boxed(b"mdat", b"")].concat())]
    #[case::many(b"ftyp".repeat(100_000))]
    fn what_is_no_film_is_none(#[case] behind: Vec<u8>) {
        assert_eq!(found(&[&[0xff; 64][..], &behind].concat()), None);
    }

    #[test]
    fn a_film_that_is_cut_short_or_changed_ends_the_search() {
        let film = [&[0xd8; 64][..], &whole()].concat();
        for length in 0..film.len() {
            assert_eq!(found(&film[..length]), None, "{length}");
        }
        for at in 64..420 {
            for byte in [0, 1, 0x7f, 0xff] {
                let mut other = film.clone();
                other[at] = byte;
                let _ = found(&other);
            }
        }
    }
}
