// once makes a key of a request that is done once, however often it is sent; also where the page came by plain HTTP,
// where browsers know no crypto.randomUUID.
export const once = () => Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')
