<script setup lang="ts">
/** Narrows the rows of a table to those that hold what is typed. */
defineProps<{ shown: number; of: number; what: string }>()
const model = defineModel<string>({ required: true })
</script>

<template>
  <div v-if="of > 6 || model" class="narrow">
    <ElInput v-model="model" size="small" clearable :placeholder="`Narrow the ${what}`" :aria-label="`Narrow the ${what}`" />
    <span v-if="model" class="soft" role="status">{{ shown.toLocaleString('en') }} of {{ of.toLocaleString('en') }}</span>
  </div>
</template>

<style scoped>
.narrow {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-top: 6px;
}
.narrow .el-input {
  width: 20em;
}
</style>
