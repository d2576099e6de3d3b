/** The page's content-security policy lets only style elements with this nonce apply. */
export const styleNonce = document.querySelector<HTMLMetaElement>("meta[name=style-nonce]")?.content ?? "";
