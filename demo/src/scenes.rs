//! Pictures drawn by code, a function from a point to a colour.

use image::{Rgb, RgbImage};

/// A small random source (SplitMix64), the same everywhere.
#[derive(Clone)]
pub struct Rng(u64);

impl Rng {
    /// Starts from a seed.
    pub fn new(seed: u64) -> Self {
        Rng(seed.wrapping_add(0x9e37_79b9_7f4a_7c15))
    }

    /// The next 64 bits.
    #[allow(clippy::should_implement_trait, reason = "an endless source is no iterator")]
    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number in `0..most`.
    pub fn below(&mut self, most: u64) -> u64 {
        self.next() % most.max(1)
    }

    fn unit(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }
}

/// Where the household goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scene {
    /// The weir on the Meuse.
    Weir,
    /// The kite festival on the beach of Fanø.
    Kites,
    /// The allotment in Leiden.
    Allotment,
    /// The harbour of Vlieland, in fog.
    Harbour,
    /// The mill at home, at dusk.
    Mill,
    /// A fjord, with a village on its shore.
    Fjord,
    /// Hills in winter.
    Snow,
    /// Houses along a canal, at home.
    Town,
}

impl Scene {
    /// Degrees north and east.
    pub fn place(self) -> (f64, f64) {
        match self {
            Self::Weir => (50.8715, 5.6936),
            Self::Kites => (55.4450, 8.3700),
            Self::Allotment => (52.1660, 4.4700),
            Self::Harbour => (53.2960, 5.0900),
            Self::Mill => (52.1580, 4.4860),
            Self::Fjord => (60.3930, 5.3240),
            Self::Snow => (51.1950, 8.5300),
            Self::Town => (52.1600, 4.4930),
        }
    }
}

type Colour = [f64; 3];

fn mix(a: Colour, b: Colour, t: f64) -> Colour {
    let t = t.clamp(0.0, 1.0);
    [0, 1, 2].map(|i| a[i] + (b[i] - a[i]) * t)
}

fn rgb(hex: u32) -> Colour {
    [16, 8, 0].map(|s| f64::from((hex >> s) & 255) / 255.0)
}

fn hash(x: i64, y: i64, seed: u64) -> f64 {
    let mut rng = Rng::new(seed ^ (x as u64).wrapping_mul(0x1000_0001) ^ (y as u64).wrapping_mul(0x7_0000_0003));
    rng.unit()
}

/// Value noise, `0.0..1.0`.
fn noise(x: f64, y: f64, seed: u64) -> f64 {
    let (xi, yi) = (x.floor(), y.floor());
    let smooth = |t: f64| t * t * (3.0 - 2.0 * t);
    let (u, v) = (smooth(x - xi), smooth(y - yi));
    let at = |dx: i64, dy: i64| hash(xi as i64 + dx, yi as i64 + dy, seed);
    let top = at(0, 0) + (at(1, 0) - at(0, 0)) * u;
    let low = at(0, 1) + (at(1, 1) - at(0, 1)) * u;
    top + (low - top) * v
}

fn cloud(x: f64, y: f64, seed: u64) -> f64 {
    (0..4).map(|o| noise(x * f64::from(1 << o), y * f64::from(1 << o), seed + o as u64) / f64::from(2 << o)).sum()
}

fn step(edge: f64, x: f64, soft: f64) -> f64 {
    ((x - edge) / soft + 0.5).clamp(0.0, 1.0)
}

struct Look {
    seed: u64,
    light: f64,
    shift: f64,
    time: f64,
    things: Vec<[f64; 5]>,
}

/// Draws a scene, `time` seconds after its first frame.
pub fn draw(scene: Scene, seed: u64, time: f64, width: u32, height: u32) -> RgbImage {
    let mut rng = Rng::new(seed);
    let look = Look {
        seed,
        light: rng.unit(),
        shift: rng.unit(),
        time,
        things: (0..14).map(|_| [0; 5].map(|_: i32| rng.unit())).collect(),
    };
    let shorter = f64::from(width.min(height));
    let ratio = f64::from(width) / shorter;
    RgbImage::from_fn(width, height, |px, py| {
        // x runs over the shape of the picture, y from 0 (top) to 1, both in units of the height.
        let (x, y) = (f64::from(px) / f64::from(width) * ratio, f64::from(py) / f64::from(height));
        let colour = match scene {
            Scene::Weir => weir(x, y, &look),
            Scene::Kites => kites(x, y, ratio, &look),
            Scene::Allotment => allotment(x, y, &look),
            Scene::Harbour => harbour(x, y, ratio, &look),
            Scene::Mill => mill(x, y, ratio, &look),
            Scene::Fjord => fjord(x, y, ratio, &look),
            Scene::Snow => snow(x, y, &look),
            Scene::Town => town(x, y, &look),
        };
        // A lens is a little darker at its edge, and film is never quite even.
        let (dx, dy) = (x / ratio - 0.5, y - 0.5);
        let vignette = 1.0 - 0.5 * (dx * dx + dy * dy);
        let grain = (hash(i64::from(px), i64::from(py), seed) - 0.5) * 0.025;
        Rgb(colour.map(|c| ((c * vignette + grain).clamp(0.0, 1.0) * 255.0) as u8))
    })
}

fn sky(x: f64, y: f64, top: Colour, low: Colour, look: &Look) -> Colour {
    let c = cloud(x * 2.2 + look.shift * 9.0 + look.time * 0.05, y * 5.0, look.seed);
    mix(mix(top, low, y * 1.6), [1.0, 0.99, 0.97], ((c - 0.48) * 3.0).clamp(0.0, 0.75))
}

fn weir(x: f64, y: f64, l: &Look) -> Colour {
    let (horizon, crest, foot) = (0.30 + l.shift * 0.06, 0.52, 0.70);
    let trees = horizon - 0.05 - 0.11 * cloud(x * 5.0 + l.shift * 20.0, 0.5, l.seed + 9);
    let far = mix(rgb(0x4d6b41), rgb(0x2f4a33), noise(x * 30.0, y * 40.0, l.seed));
    if y < trees {
        return sky(x, y, mix(rgb(0x6f9fc4), rgb(0xd9a06b), l.light * 0.8), rgb(0xe9e4d6), l);
    }
    if y < horizon {
        return far;
    }
    let ripple = noise(x * 14.0 + l.time, (y - horizon) * 90.0 - l.time * 2.0, l.seed + 1);
    if y < crest {
        let still = mix(mix(rgb(0x6d8f8f), far, 0.4), rgb(0x3f6470), (y - horizon) * 4.0);
        return mix(still, rgb(0xdfe9e6), (ripple - 0.62) * 1.6);
    }
    if y < foot {
        let fall = noise(x * 46.0, y * 5.0 - l.time * 3.0, l.seed + 2);
        let veil = mix(rgb(0x54757b), rgb(0xf3f7f5), fall * 0.95);
        return mix(veil, rgb(0xffffff), step(foot - 0.03, y, 0.05) * 0.7);
    }
    let foam = cloud(x * 12.0 - l.time, (y - foot) * 30.0, l.seed + 3) * (1.4 - (y - foot) * 4.0);
    let deep = mix(rgb(0x3c5d63), rgb(0x223a42), (y - foot) * 3.0);
    let stones = l.things.iter().take(7).any(|t| {
        let (cx, cy) = (t[0] * 1.4, 0.84 + t[1] * 0.14);
        ((x - cx) / (0.04 + t[2] * 0.06)).powi(2) + ((y - cy) / (0.02 + t[2] * 0.03)).powi(2) < 1.0
    });
    if stones {
        mix(rgb(0x5d574d), rgb(0x8d877a), noise(x * 40.0, y * 60.0, l.seed))
    } else {
        mix(deep, rgb(0xf2f6f4), (foam - 0.35) * 1.8)
    }
}

fn kites(x: f64, y: f64, ratio: f64, l: &Look) -> Colour {
    const SILK: [u32; 7] = [0xd0452f, 0xe9a823, 0x2f6fa8, 0x3a8a55, 0x7b3f86, 0xe36f93, 0xf2efe4];
    let (sea, sand) = (0.74, 0.80);
    let mut colour = if y < sea {
        sky(x, y, mix(rgb(0x3f86c6), rgb(0x7fb2dc), l.light), rgb(0xdcebf3), l)
    } else if y < sand {
        mix(rgb(0x6fa0ac), rgb(0xe8efe9), (noise(x * 20.0 + l.time, y * 120.0, l.seed) - 0.55) * 2.0)
    } else {
        mix(rgb(0xe2cfa4), rgb(0xb99f70), cloud(x * 20.0, y * 50.0, l.seed))
    };
    for (n, t) in l.things.iter().take(6 + (l.light * 8.0) as usize).enumerate() {
        let swing = (l.time * 1.5 + t[4] * 6.0).sin() * 0.02;
        let (cx, cy, size) = (t[0] * ratio + swing, 0.06 + t[1] * 0.55, 0.025 + t[2] * t[2] * 0.075);
        let lean = (t[3] - 0.5) * 0.9;
        let (dx, dy) = (x - cx, y - cy);
        let (u, v) = (dx * lean.cos() - dy * lean.sin(), dx * lean.sin() + dy * lean.cos());
        let silk = rgb(SILK[(n + (t[4] * 7.0) as usize) % 7]);
        if u.abs() / size + v.abs() / (size * 1.5) < 1.0 {
            let panel = if (u < 0.0) == (v < 0.0) { silk } else { mix(silk, rgb(SILK[(n + 3) % 7]), 0.75) };
            colour = mix(panel, [1.0; 3], 0.12 * (1.0 - v / size));
        }
        let tail = (v - size * 1.5) / (size * 4.0);
        if (0.0..1.0).contains(&tail) && (u - (tail * 9.0 + t[3] * 5.0).sin() * size * 0.35).abs() < size * 0.07 {
            colour = silk;
        }
        let (hx, hy) = (t[3] * ratio, 0.86 + t[4] * 0.06);
        let along = (y - cy) / (hy - cy);
        if (0.1..1.0).contains(&along) && (x - (cx + (hx - cx) * along)).abs() < 0.0011 {
            colour = mix(colour, rgb(0x333333), 0.5);
        }
        let (bx, by) = ((x - hx) / 0.011, (y - hy - 0.03) / 0.036);
        if bx * bx + by * by < 1.0 || ((x - hx) / 0.009).powi(2) + ((y - hy + 0.012) / 0.011).powi(2) < 1.0 {
            colour = mix(rgb(0x2b2f3a), silk, t[2] * 0.6);
        }
    }
    colour
}

fn allotment(x: f64, y: f64, l: &Look) -> Colour {
    const BLOOMS: [u32; 5] = [0xe4572e, 0xf3c13a, 0xd96ba0, 0xf5f0dc, 0x8e4ea8];
    let ground = 0.44 + l.shift * 0.05;
    if y < ground {
        let hedge = ground - 0.05 - 0.05 * cloud(x * 8.0, 0.3, l.seed + 2);
        let (sx, sy) = (0.15 + l.light * 0.7, ground);
        let (hx, hy) = (x - sx, sy - y);
        if hx > 0.0 && hx < 0.24 && hy < 0.17 {
            let door = (0.09..0.14).contains(&hx) && hy < 0.12;
            let plank = ((hx * 70.0).fract() < 0.1) as u8;
            return if door { rgb(0x3f5a52) } else { mix(rgb(0x8a5f3f), rgb(0x5d3d28), f64::from(plank)) };
        }
        if hx > -0.02 && hx < 0.26 && (0.17..0.17 + 0.09 * (1.0 - (hx - 0.12).abs() / 0.15)).contains(&hy) {
            return rgb(0x6b3b2e);
        }
        return if y > hedge {
            mix(rgb(0x44602f), rgb(0x2c4423), noise(x * 60.0, y * 60.0, l.seed))
        } else {
            sky(x, y, rgb(0x7fb0d6), rgb(0xe6eee9), l)
        };
    }
    let depth = (y - ground) / (1.0 - ground);
    let across = (x - 0.66) / (0.15 + depth) * 5.0 + l.shift * 2.0;
    let (bed, inside) = (across.floor() as i64, across - across.floor());
    let soil = mix(rgb(0x5a412c), rgb(0x7a5c40), noise(x * 80.0, y * 120.0, l.seed));
    if inside < 0.22 {
        return mix(rgb(0x9b8a68), soil, noise(x * 40.0, y * 90.0, l.seed + 3));
    }
    let kind = hash(bed, 1, l.seed);
    let leaf = noise(across * 9.0, (1.0 / (depth + 0.12)) * 14.0, l.seed + 5);
    let green = mix(rgb(0x2f5d2b), rgb(0x8fb64a), leaf * (0.6 + kind * 0.5));
    let plant = mix(soil, green, step(0.38, leaf + 0.25 * (1.0 - (inside - 0.6).abs() * 2.0), 0.1));
    let bloom = hash((across * 16.0) as i64, (14.0 / (depth + 0.1)) as i64, l.seed + 6);
    if kind > 0.45 && bloom > 0.86 { mix(plant, rgb(BLOOMS[(kind * 97.0) as usize % 5]), 0.9) } else { plant }
}

fn harbour(x: f64, y: f64, ratio: f64, l: &Look) -> Colour {
    let (fog, water) = (mix(rgb(0xcfd6d6), rgb(0xe7d9c3), l.light), 0.60);
    let mirrored = if y > water { 2.0 * water - y } else { y };
    let mut colour = mix(fog, mix(rgb(0xa9b9bd), rgb(0xd7b48e), l.light), (0.7 - y).abs() * 0.7);
    let mut boats = l.things.iter().take(6).collect::<Vec<_>>();
    boats.sort_by(|a, b| a[2].total_cmp(&b[2]));
    for t in boats {
        let near = t[2];
        let (cx, line, size) = (t[0] * ratio, water - 0.005 + near * 0.02, 0.05 + near * 0.15);
        let wave = if y > water { (y * 130.0 + l.time * 3.0).sin() * 0.006 * (y - water) * 6.0 } else { 0.0 };
        let (u, v) = ((x + wave - cx) / size, (line - mirrored) / size);
        let hull = v > 0.0 && v < 0.34 && u.abs() < 1.0 - (0.34 - v) * 0.7;
        let cabin = (0.34..0.62).contains(&v) && (-0.45..0.15).contains(&u);
        let mast = v > 0.3 && v < 2.6 && (u - 0.3).abs() < 0.022;
        let boom = (0.72..0.77).contains(&v) && (-0.6..0.3).contains(&u);
        let stay = v > 0.3 && v < 2.6 && (u - 0.3 - (2.6 - v) * 0.28).abs() < 0.008;
        if hull || cabin || mast || boom || stay {
            let paint = [0x2f4858, 0x7d3b32, 0x3c5a45, 0xe8e2d2, 0x31363f][(t[3] * 5.0) as usize % 5];
            let own = if hull {
                rgb(paint)
            } else if cabin {
                rgb(0xd9d2c0)
            } else {
                rgb(0x4b4139)
            };
            let dim = if y > water { 0.35 } else { 0.0 };
            colour = mix(own, fog, (0.72 - near * 0.62) + dim);
        }
    }
    if y > water {
        let ripple = noise(x * 9.0 + l.time * 0.4, (y - water) * 70.0 - l.time, l.seed);
        colour = mix(colour, rgb(0x7f969b), 0.25 + (ripple - 0.5) * 0.35);
    }
    let drift = cloud(x * 1.8 + l.time * 0.08 + l.shift * 5.0, y * 4.0, l.seed + 4);
    mix(colour, fog, (drift - 0.36) * 1.3)
}

fn mill(x: f64, y: f64, ratio: f64, l: &Look) -> Colour {
    let ground = 0.78;
    let dusk = mix(rgb(0x2d3a5c), rgb(0x54507a), l.light);
    let mut colour = sky(x, y, dusk, mix(rgb(0xf0a35e), rgb(0xe6785a), l.light), l);
    let (cx, hub) = (ratio * (0.35 + l.shift * 0.3), 0.36);
    let wide = 0.075 + (y - 0.3) * 0.13;
    if y > 0.33 && y < ground + 0.02 && (x - cx).abs() < wide {
        let lit = [(0.02, 0.52), (-0.04, 0.62), (0.03, 0.70)]
            .iter()
            .any(|(dx, wy)| (x - cx - dx).abs() < 0.014 && (y - wy).abs() < 0.02);
        colour = if lit { rgb(0xffd98a) } else { mix(rgb(0x3a2f33), rgb(0x6d4a40), (x - cx + wide) / wide * 0.4) };
    }
    if y > 0.27 && y <= 0.34 && (x - cx).abs() < 0.06 * (1.0 - (0.34 - y) * 8.0).max(0.2) + 0.03 {
        colour = rgb(0x2a2328);
    }
    let (dx, dy) = (x - cx, y - hub);
    let turn = l.shift * 1.6 + l.time * 0.8;
    for arm in 0..4 {
        let angle = turn + f64::from(arm) * std::f64::consts::FRAC_PI_2;
        let (along, side) = (dx * angle.cos() + dy * angle.sin(), -dx * angle.sin() + dy * angle.cos());
        let lattice = (along * 42.0).fract() < 0.18 || side.abs() < 0.004 || (side - 0.034).abs() < 0.003;
        if (0.02..0.3).contains(&along) && (-0.005..0.037).contains(&side) && lattice {
            colour = rgb(0x241d22);
        }
    }
    if y > ground - 0.03 * cloud(x * 6.0, 0.2, l.seed) {
        let reed = noise(x * 90.0, y * 9.0, l.seed + 1);
        let canal = y > 0.86;
        let flow = noise(x * 8.0 + l.time * 0.5, y * 90.0, l.seed + 2);
        colour = if canal {
            mix(mix(dusk, rgb(0xe0875a), 0.45), rgb(0x1d2333), flow * 0.8)
        } else {
            mix(rgb(0x1e2a22), rgb(0x39452f), reed)
        };
    }
    colour
}

/// The edge of a range of hills, as high as it is at `x`.
fn ridge(x: f64, rough: f64, seed: u64) -> f64 {
    0.7 * noise(x * 1.7, 0.5, seed) + 0.3 * cloud(x * 5.0 * rough, 0.5, seed + 1)
}

fn fjord(x: f64, y: f64, ratio: f64, l: &Look) -> Colour {
    let water = 0.62 + l.shift * 0.06;
    let mirrored = if y > water { 2.0 * water - y } else { y };
    let air = mix(rgb(0x7fa6c9), rgb(0xd8b48c), l.light * 0.7);
    let mut colour = sky(x, mirrored, air, rgb(0xe8ecea), l);
    for (n, (far, height)) in [(0.75, 0.50), (0.45, 0.38), (0.1, 0.20)].into_iter().enumerate() {
        let seed = l.seed + 20 + n as u64;
        let along = x + n as f64 * 3.1 + l.shift * 7.0;
        // Peaks are sharp, and what is between them is not.
        let peak = (1.0 - (2.0 * noise(along * 2.1, 0.5, seed) - 1.0).abs()).powf(1.4);
        let edge = water - height * (0.2 + 0.75 * peak + 0.3 * ridge(along, 1.5, seed + 9));
        if mirrored > edge && mirrored < water {
            let deep = (mirrored - edge) / (water - edge).max(0.01);
            let rock = mix(rgb(0x5d6f78), rgb(0x2f4a3a), deep * 1.3 + noise(x * 40.0, mirrored * 60.0, seed) * 0.3);
            let snow = if n < 2 {
                step(0.5, noise(x * 22.0, mirrored * 9.0, seed + 3), 0.2) * (1.0 - deep * 3.2).clamp(0.0, 1.0)
            } else {
                0.0
            };
            colour = mix(mix(rock, rgb(0xf5f7f7), snow), air, far * 0.7);
        }
    }
    // A few houses, red and yellow, at the water.
    for t in l.things.iter().take(6) {
        let (hx, size) = (t[0] * ratio, 0.012 + t[1] * 0.01);
        let (u, v) = ((x - hx) / size, (water - mirrored) / size);
        if v > 0.0 && v < 1.2 && u.abs() < 1.0 {
            colour = rgb([0xa8382b, 0xd9a441, 0xf0eee6][(t[2] * 3.0) as usize % 3]);
        } else if (1.2..1.9).contains(&v) && u.abs() < (1.9 - v) * 1.7 {
            colour = rgb(0x3a3533);
        }
    }
    if y <= water {
        return colour;
    }
    let ripple = noise(x * 10.0 + l.time * 0.5, (y - water) * 80.0 - l.time, l.seed + 5);
    mix(mix(colour, rgb(0x2c4d5c), 0.35), rgb(0xdfe8ea), (ripple - 0.6) * 1.2)
}

fn snow(x: f64, y: f64, l: &Look) -> Colour {
    let far = 0.52 - 0.16 * ridge(x + l.shift * 9.0, 0.6, l.seed + 30);
    let near = 0.70 - 0.14 * ridge(x * 0.8 + l.shift * 4.0, 0.4, l.seed + 31);
    let air = mix(rgb(0x9dbbd6), rgb(0xf0c9a0), l.light);
    let mut colour = if y < far {
        sky(x, y, air, rgb(0xf3f1ec), l)
    } else if y < near {
        let wood = step(0.5, cloud(x * 9.0, y * 16.0, l.seed), 0.16) * (0.5 + 0.5 * noise(x * 120.0, y * 60.0, l.seed));
        mix(mix(rgb(0xe6edf3), rgb(0x6d8578), wood), air, 0.25)
    } else {
        mix(rgb(0xfbfbf9), rgb(0xb9cbdc), cloud(x * 3.0, y * 7.0, l.seed + 2) * 0.9)
    };
    for t in &l.things {
        let (tx, foot, tall) = (t[0] * 1.6, 0.66 + t[1] * 0.26, 0.10 + t[1] * 0.16);
        let up = (foot - y) / tall;
        if !(0.0..1.0).contains(&up) {
            continue;
        }
        // In tiers, each narrower than the one below it.
        let wide = tall * 0.30 * (1.0 - up) * (0.72 + 0.28 * (1.0 - (up * 4.0).fract()));
        if (x - tx).abs() < wide {
            let bough = mix(rgb(0x1f3a30), rgb(0x3d5c4a), noise(x * 70.0, y * 70.0, l.seed + 6));
            colour = mix(bough, rgb(0xf6f8fa), step(0.62, (up * 4.0).fract() + (t[2] - 0.5) * 0.3, 0.2) * 0.9);
        }
    }
    let flake = hash((x * 150.0) as i64, ((y - l.time * 0.2) * 150.0) as i64, l.seed + 7);
    if l.light < 0.4 && flake > 0.992 { rgb(0xffffff) } else { colour }
}

fn town(x: f64, y: f64, l: &Look) -> Colour {
    const BRICK: [u32; 6] = [0x8c4a36, 0xa65a3f, 0x6f3f35, 0xc9b79a, 0x9a6b52, 0xd8cdb8];
    let quay = 0.68;
    let mirrored = if y > quay { 2.0 * quay - y + (y * 120.0 + l.time * 2.0).sin() * 0.004 } else { y };
    let dusk = l.light > 0.6;
    let air = if dusk { rgb(0x4b5a86) } else { rgb(0x86b3d6) };
    let mut colour = sky(x, mirrored, air, if dusk { rgb(0xf2b27a) } else { rgb(0xeef0ea) }, l);
    let across = x * 5.2 + l.shift * 11.0;
    let (house, inside) = (across.floor() as i64, across - across.floor());
    let (tall, kind) = (0.22 + hash(house, 3, l.seed) * 0.14, hash(house, 5, l.seed));
    let (eaves, middle) = (quay - tall, (inside - 0.5).abs());
    // A stepped gable, a bell, or a straight one.
    let gable = match (kind * 3.0) as u32 {
        0 => 0.10 * (1.0 - (middle * 2.0 * 4.0).floor() / 4.0),
        1 => 0.11 * (1.0 - middle * 2.0).max(0.0).sqrt(),
        _ => 0.12 * (1.0 - middle * 2.0),
    };
    if mirrored > eaves - gable && mirrored < quay {
        let wall = rgb(BRICK[(kind * 41.0) as usize % BRICK.len()]);
        colour = mix(wall, rgb(0x2d2422), noise(x * 90.0, mirrored * 160.0, l.seed) * 0.25);
        let (column, row) = (inside * 3.6 - 0.3, (mirrored - eaves) * 16.0);
        let glass = (0.25..0.75).contains(&column.rem_euclid(1.0)) && (0.2..0.8).contains(&row.rem_euclid(1.0));
        if glass && (0.0..3.0).contains(&column) && mirrored > eaves {
            let lit = dusk && hash(house * 7 + column as i64, row as i64, l.seed) > 0.45;
            colour = if lit { rgb(0xffd68a) } else { rgb(0x3b4650) };
        }
        if inside < 0.02 {
            colour = rgb(0x2a2322);
        }
    }
    if (quay - 0.012..quay).contains(&y) {
        return rgb(0x77706a);
    }
    if y <= quay {
        return colour;
    }
    let ripple = noise(x * 12.0 + l.time * 0.6, (y - quay) * 90.0, l.seed + 4);
    mix(mix(colour, rgb(0x2f4540), 0.45), rgb(0xcdd8d2), (ripple - 0.66) * 1.3)
}
