/** The mark: a heron's neck and legs. */
export const Heron = () => (
  <svg
    viewBox="0 0 32 32"
    width="26"
    height="26"
    fill="none"
    stroke="currentColor"
    strokeWidth="2.2"
    strokeLinecap="round"
    strokeLinejoin="round"
    aria-hidden="true"
  >
    <path d="M8 6h7c3 0 4 2 3 4l-3 5c-1 2 0 4 2 5l4 2c2 1 2 3 1 5" />
    <path d="M8 6l-4 1M16 20l-2 9M19 22l-1 7M12 29h9" />
  </svg>
);
