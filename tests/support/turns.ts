/** Work that ends when it is told to: what has begun, in its order, and a way to finish each piece by its name. */
export function piecesOfWork<Gate>(gate: Gate) {
  const log: string[] = [];
  const ends = new Map<string, (error?: Error) => void>();
  const run = (name: string, through: (gate: Gate, work: () => Promise<string>) => Promise<string>): Promise<string> =>
    through(
      gate,
      () =>
        new Promise((resolve, reject) => {
          log.push(name);
          ends.set(name, (error) => (error ? reject(error) : resolve(name)));
        }),
    );
  const finish = (name: string, error?: Error): void => ends.get(name)?.(error);
  return { log, finish, run };
}

/** A line as a client sends it in an exchange of SASL. */
export const answerAs = (text: string): string => Buffer.from(text).toString('base64');
