/** Land and borders (Natural Earth), as fine as the view asks for, drawn onto a canvas. */
import { useQuery } from "@tanstack/react-query";
import { geoMercator, geoPath } from "d3-geo";
import type { Feature, Geometry, Position } from "geojson";
import { feature } from "topojson-client";
import type { GeometryCollection, Topology } from "topojson-specification";
import coarse from "world-atlas/countries-110m.json?url";
import fine from "world-atlas/countries-10m.json?url";
import middling from "world-atlas/countries-50m.json?url";
import { pointOf, seen, widthOf, type Area, type Size, type View } from "./atlas";

interface Country {
  name: string;
  shape: Feature<Geometry, { name: string }>;
  /** West, south, east, north. */
  box: [number, number, number, number];
  /** In the middle of its largest part: there its name stands. */
  middle: { north: number; east: number };
  /** How wide that part is, in degrees. */
  width: number;
}

export type Land = readonly Country[];

const FILES = { coarse, middling, fine };
export type Fineness = keyof typeof FILES;

export const finenessOf = (zoom: number): Fineness => (zoom < 3.5 ? "coarse" : zoom < 6.5 ? "middling" : "fine");

const ringsOf = (shape: Geometry): Position[][] => (shape.type === "Polygon" ? shape.coordinates : shape.type === "MultiPolygon" ? shape.coordinates.flat() : []);

function measured(shape: Feature<Geometry, { name: string }>): Country {
  const box: Country["box"] = [180, 90, -180, -90];
  let largest = { area: 0, middle: { north: 0, east: 0 }, width: 0 };
  for (const ring of ringsOf(shape.geometry)) {
    let [area, x, y, west, east] = [0, 0, 0, 540, -540];
    // Over the date line, degrees go on instead of beginning anew.
    let ax = ring[0]?.[0] ?? 0;
    for (let n = 0; n < ring.length; n++) {
      const ay = ring[n]?.[1] ?? 0;
      const [next = 0, by = 0] = ring[(n + 1) % ring.length] ?? [];
      const bx = next + 360 * Math.round((ax - next) / 360);
      const cross = ax * by - bx * ay;
      area += cross;
      x += (ax + bx) * cross;
      y += (ay + by) * cross;
      west = Math.min(west, ax);
      east = Math.max(east, ax);
      box[0] = Math.min(box[0], ax);
      box[1] = Math.min(box[1], ay);
      box[2] = Math.max(box[2], ax);
      box[3] = Math.max(box[3], ay);
      ax = bx;
    }
    if (Math.abs(area) > largest.area) largest = { area: Math.abs(area), middle: { east: x / (3 * area), north: y / (3 * area) }, width: east - west };
  }
  // What lies over the date line is on both sides of every map.
  if (box[0] < -180 || box[2] > 180) [box[0], box[2]] = [-180, 180];
  return { name: shape.properties.name, shape, box, middle: largest.middle, width: largest.width };
}

async function fetched(address: string): Promise<Land> {
  const came = await fetch(address);
  if (!came.ok) throw new Error(`The map could not be fetched (${came.status}).`);
  const world = (await came.json()) as Topology<{ countries: GeometryCollection<{ name: string }> }>;
  return feature(world, world.objects.countries).features.map(measured);
}

/** Land, as fine as is asked for; until that has come, what there is of it. */
export function useLand(wanted: Fineness): { land: Land | undefined; failed: boolean } {
  const ask = (fineness: Fineness, enabled: boolean) => ({ queryKey: ["land", fineness], queryFn: () => fetched(FILES[fineness]), staleTime: Infinity, gcTime: Infinity, enabled });
  const least = useQuery(ask("coarse", true));
  const more = useQuery(ask("middling", wanted !== "coarse"));
  const most = useQuery(ask("fine", wanted === "fine"));
  const there = { coarse: least.data, middling: more.data ?? least.data, fine: most.data ?? more.data ?? least.data };
  return { land: there[wanted], failed: least.isError };
}

/** Whether a country may be seen; the margin is for what a curve has beyond its ends. */
function meets([west, south, east, north]: Country["box"], area: Area): boolean {
  if (north < area.south || south > area.north) return false;
  return area.west <= area.east ? east >= area.west && west <= area.east : east >= area.west || west <= area.east;
}

export interface Colours {
  water: string;
  land: string;
  border: string;
  name: string;
}

/** The colours of the page as it is now. */
export function coloursOf(element: Element): Colours {
  const style = getComputedStyle(element);
  // A custom property says what it was set to; a colour, what it comes to.
  const probe = document.createElement("span");
  element.append(probe);
  const colour = (name: string) => {
    probe.style.color = `var(${name})`;
    return getComputedStyle(probe).color;
  };
  const all = { water: colour("--rock-chamber"), land: colour("--map-land"), border: colour("--map-border"), name: colour("--ink-soft") };
  probe.remove();
  return { ...all, name: all.name || style.color };
}

/** Draws what is seen. */
export function draw(canvas: HTMLCanvasElement, land: Land, view: View, size: Size, colours: Colours) {
  const pixel = window.devicePixelRatio || 1;
  const [width, height] = [Math.round(size.width * pixel), Math.round(size.height * pixel)];
  if (canvas.width !== width) canvas.width = width;
  if (canvas.height !== height) canvas.height = height;
  const on = canvas.getContext("2d");
  if (!on) return;
  on.setTransform(pixel, 0, 0, pixel, 0, 0);
  on.fillStyle = colours.water;
  on.fillRect(0, 0, size.width, size.height);
  const projection = geoMercator()
    .scale(widthOf(view.zoom) / (2 * Math.PI))
    .rotate([-view.east, 0])
    .center([0, view.north])
    .translate([size.width / 2, size.height / 2])
    .clipExtent([
      [-2, -2],
      [size.width + 2, size.height + 2],
    ])
    .precision(0);
  const path = geoPath(projection, on);
  const area = seen(view, size);
  const shown = land.filter((c) => meets(c.box, area));
  on.beginPath();
  for (const country of shown) path(country.shape);
  on.fillStyle = colours.land;
  on.fill();
  on.strokeStyle = colours.border;
  on.lineWidth = 1;
  on.lineJoin = "round";
  on.stroke();
  on.fillStyle = colours.name;
  on.font = "13px 'Hanken Grotesk Variable', system-ui, sans-serif";
  on.textAlign = "center";
  for (const { name, middle, width: wide } of shown) {
    const room = (wide / 360) * widthOf(view.zoom);
    if (on.measureText(name).width > room * 0.8) continue;
    const at = pointOf(view, middle.north, middle.east);
    on.fillText(name, size.width / 2 + at.x, size.height / 2 + at.y);
  }
}
