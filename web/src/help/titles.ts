/** What a document is called; apart from the documents, so that naming one does not load them all. */
export const titleOfDoc = (doc: string) => (doc === "api" ? "API" : doc.charAt(0).toUpperCase() + doc.slice(1));
