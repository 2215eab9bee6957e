<script setup lang="ts">
/** Chooses the columns of a table. */
defineProps<{ all: readonly string[] }>()
const model = defineModel<string[]>({ required: true })
</script>

<template>
  <label class="columns"
    >Columns
    <ElSelect v-model="model" multiple collapse-tags collapse-tags-tooltip size="small" name="columns" placeholder="the name alone">
      <ElOption v-for="one in all" :key="one" :value="one" :label="one" />
    </ElSelect>
  </label>
</template>

<style scoped>
.columns {
  display: flex;
  gap: 8px;
  align-items: center;
  max-width: 26em;
}
.columns .el-select {
  flex: 1;
}
</style>
