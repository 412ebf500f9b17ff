/** Degrees as people write them: 52.1583° N, 4.4931° E. */
export const degrees = (north: number, east: number) => `${Math.abs(north).toFixed(4)}° ${north < 0 ? "S" : "N"}, ${Math.abs(east).toFixed(4)}° ${east < 0 ? "W" : "E"}`;
