const few = [3.078, 1.886, 1.638, 1.533, 1.476, 1.44, 1.415, 1.397, 1.383, 1.372, 1.363, 1.356, 1.35, 1.345, 1.341, 1.337, 1.333, 1.33]

/** Within how many standard deviations eight of ten values lie, where these are estimated with so many degrees of freedom (Student's t). */
export function eightInTen(degrees: number): number {
  return few[degrees - 1] ?? 1.2816 + 0.87 / degrees
}
