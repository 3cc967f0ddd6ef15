/** The names of endpoints to choose from: those that really compute come first. */
export function names(models: { id: string; simulated?: boolean | null }[]): string[] {
  const real = models.filter(({ simulated }) => !simulated);
  const simulated = models.filter(({ simulated }) => simulated);
  return [...real, ...simulated].map(({ id }) => id);
}
