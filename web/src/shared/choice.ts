/** What somebody chose in a list of the window's own (`select`). */
export const choiceOf = <T extends string = string>(e: Event) => (e.target as HTMLSelectElement).value as T;
