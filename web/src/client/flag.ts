/** Something that is so or not, which many parts of a page go by. */
export class Flag {
  #on = false;
  #listeners = new Set<() => void>();

  get on() {
    return this.#on;
  }

  set(on: boolean) {
    if (this.#on !== on) {
      this.#on = on;
      for (const told of this.#listeners) {
        told();
      }
    }
  }

  subscribe = (told: () => void) => {
    this.#listeners.add(told);
    return () => this.#listeners.delete(told);
  };

  read = () => this.#on;
}
