import {
  TextNode,
  type EditorConfig,
  type LexicalNode,
  type NodeKey,
  type SerializedTextNode,
} from 'lexical';

type SerializedPiece = SerializedTextNode & { source: string };

/** A part of a text that is shown as what it means: a link, or the bullet of a list. It is moved and deleted as a whole. */
export class PieceNode extends TextNode {
  __source: string;

  static getType() {
    return 'piece';
  }

  static clone(node: PieceNode) {
    return new PieceNode(node.__source, node.__text, node.__key);
  }

  static importJSON(json: SerializedPiece) {
    return $piece(json.source, json.text);
  }

  constructor(source: string, label: string, key?: NodeKey) {
    super(label, key);
    this.__source = source;
  }

  exportJSON(): SerializedPiece {
    return { ...super.exportJSON(), type: 'piece', version: 1, source: this.__source };
  }

  createDOM(config: EditorConfig) {
    const dom = super.createDOM(config);
    dom.className = this.isLink() ? 'linkpiece' : 'bullet';
    dom.title = this.__source;
    return dom;
  }

  /** As the sheet has it. */
  getSource() {
    return this.getLatest().__source;
  }

  isLink() {
    return this.getSource().startsWith('[');
  }

  isTextEntity() {
    return true;
  }

  canInsertTextBefore() {
    return false;
  }

  canInsertTextAfter() {
    return false;
  }
}

/** Makes a piece of its source, with what is shown for it. */
export const $piece = (source: string, label: string): PieceNode =>
  new PieceNode(source, label || source).setMode('token');

export const $isPiece = (node: LexicalNode | null | undefined): node is PieceNode =>
  node instanceof PieceNode;
