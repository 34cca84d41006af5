// The page's content security policy lets only styles with its nonce in. Most are made with it; some
// libraries make style elements without asking, so every style element gets it here.
export const nonce = document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content ?? '';

/* eslint-disable @typescript-eslint/no-deprecated -- its forms for old elements are passed on as well */
const create = document.createElement.bind(document);
document.createElement = (name: string, options?: ElementCreationOptions) => {
  const element = create(name, options);
  // The policy refuses style attributes, but not the same set through the object model.
  const set = element.setAttribute.bind(element);
  element.setAttribute = (attribute: string, value: string) => {
    if (attribute.toLowerCase() === 'style') element.style.cssText = value;
    else set(attribute, value);
  };
  if (nonce && name.toLowerCase() === 'style') element.setAttribute('nonce', nonce);
  return element;
};
